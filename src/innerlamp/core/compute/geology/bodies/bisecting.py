"""The compiled part of cutting: simplices bisected by contacts and faults, their pieces told apart, faces between them written.

See `cutting` for what it rests on.
"""

from __future__ import annotations

import numpy as np

from ...compiled import compiled
from .reading import share_at, surface_at

CORNERS, PIECES = 1200, 4000  # of one simplex, at most
CODES = 8  # sides of faults that meet in one simplex
LEAST = 1e-3  # metres: a node nearer than this to a contact is taken as on its positive side
_TABLE = 1 << 15


@compiled(cache=True, error_model="numpy", inline="always")
def _mix(a):  # type: ignore[no-untyped-def]
    """Sixty-four bits spread evenly (the finaliser of splitmix64; Steele and others 2014, OOPSLA)."""
    a = (a ^ (a >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    a = (a ^ (a >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return a ^ (a >> np.uint64(31))


@compiled(cache=True, error_model="numpy", inline="always")
def _named(low, high, stage):  # type: ignore[no-untyped-def]
    one = _mix(low + np.uint64(0x9E3779B97F4A7C15))
    return _mix(one ^ _mix(high + np.uint64(0xD1B54A32D192ED03)) ^ (np.uint64(stage) * np.uint64(0xA0761D6478BD642F)))


@compiled(cache=True, error_model="numpy")
def _belongs(values, parts, v, ci, code, moving, first):  # type: ignore[no-untyped-def]
    """Whether a corner lies on the sides of the faults that `code` says: on a fault, and where it did not move, on both."""
    for j in range(parts.shape[1]):
        if (moving >> j) & 1 and parts[v, j, ci] > 0.0:
            off = values[v, first + j, ci]
            if off != 0.0 and (off > 0.0) != ((code >> j) & 1 != 0):
                return False
    return True


@compiled(cache=True, error_model="numpy")
def _passed(p, s, t, values, a, b, ci, live, live_count, active, far):  # type: ignore[no-untyped-def]
    """Whether the edge from a to b needs no cut by contact s of piece t: it lies in a younger piece, or out of t by another contact.

    Of contacts that cut after this one only those count that are far away, so that all simplices see it alike.
    """
    for row in range(live_count):
        k = live[row]
        if k > t:
            break
        begin, end = p.piece_start[k], p.piece_start[k + 1]
        if k < t:
            inside = True
            for c in range(begin, end):
                if not active[p.piece_contacts[c]]:
                    continue  # positive all over
                x, y = values[a, p.piece_contacts[c], ci], values[b, p.piece_contacts[c], ci]
                if x < 0.0 or y < 0.0 or (x == 0.0 and y == 0.0):
                    inside = False
                    break
            if inside:
                return True
        else:
            before = True
            for c in range(begin, end):
                other = p.piece_contacts[c]
                if other == s:
                    before = False
                elif active[other]:
                    x, y = values[a, other, ci], values[b, other, ci]
                    if before and x <= 0.0 and y <= 0.0 and (x < 0.0 or y < 0.0):
                        return True
                    if x < -far and y < -far:
                        return True
    return False


@compiled(cache=True, error_model="numpy")
def _crossing(p, s, code, xa, ya, za, fa, xb, yb, zb, fb):  # type: ignore[no-untyped-def]
    """Return at which share of an edge the surface passes it (regula falsi with halved ends; Dowell and Jarratt 1971, BIT 11, 168)."""
    low, high = 0.0, 1.0
    t = fa / (fa - fb)
    long = abs(xb - xa) + abs(yb - ya) + abs(zb - za)
    kept = 0
    for _ in range(8):
        f = surface_at(p, s, code, xa + t * (xb - xa), ya + t * (yb - ya), za + t * (zb - za))
        if abs(f) < 1e-4:
            break
        if (f > 0.0) == (fa > 0.0):
            low, fa = t, f
            if kept == 1:
                fb *= 0.5
            kept = 1
        else:
            high, fb = t, f
            if kept == 2:
                fa *= 0.5
            kept = 2
        if fa == fb:
            break
        t = low + (high - low) * fa / (fa - fb)
    least = min(1e-3 / max(long, 1e-9), 0.25)
    return min(max(t, least), 1.0 - least)


@compiled(cache=True, error_model="numpy", nogil=True)
def bisected(  # type: ignore[no-untyped-def]
    p, stages, nodes, natural, natural_parts, codes, rim, corners, owner, begin, end, step, values, parts, places, names, rims, given,
    pieces, spots, spot_names, faces, face_labels, face_keys, sums, far,
):  # fmt: skip
    """Cut simplices from `begin` on; returns how far it came, and how many corners and faces were written."""
    nv = corners.shape[1]
    many = p.slip.shape[0]
    surfaces = p.kind.shape[0]
    first = surfaces - many
    labels = p.piece_start.shape[0] - 1
    spot_count, face_count = 0, 0
    whose = np.zeros(PIECES, np.int64)
    table, table_keys = np.zeros((_TABLE, 4), np.int64), np.zeros(_TABLE, np.uint64)
    waiting = np.zeros(4 * PIECES, np.int64)
    code_list, sided = np.zeros(CODES, np.int64), np.zeros(CODES, np.int64)
    active, alive = np.zeros(surfaces, np.bool_), np.zeros(labels, np.bool_)
    side = np.zeros(surfaces, np.int64)  # of a contact that is far away: 1 or -1
    acting, live = np.zeros(surfaces, np.int64), np.zeros(labels, np.int64)
    slipped = far
    for j in range(many):
        slipped += 3.0 * np.sqrt(p.slip[j, 0] ** 2 + p.slip[j, 1] ** 2 + p.slip[j, 2] ** 2)
    for m in range(begin, end):
        if spot_count + CORNERS > spots.shape[0] or face_count + 4 * PIECES > faces.shape[0]:
            return m, spot_count, face_count
        # ---- which sides of faults meet here
        base, moving = codes[corners[m, 0]], 0
        for i in range(1, nv):
            moving |= codes[corners[m, i]] ^ base
        moved = 0.0
        for j in range(many):
            low, high, moves, near = False, False, False, np.inf
            for i in range(nv):
                node = corners[m, i]
                low |= natural[node, first + j] < 0.0
                high |= natural[node, first + j] > 0.0
                moves |= natural_parts[node, j] > 0.0
                near = min(near, abs(natural[node, first + j]))
            # A younger fault that passes here has the older one at two places.
            if (low and high and moves) or (moved > 0.0 and near < moved):
                moving |= 1 << j
            if (moving >> j) & 1:
                if moved == 0.0:
                    for i in range(1, nv):
                        for k in range(3):
                            moved += 2.0 * abs(nodes[corners[m, i], k] - nodes[corners[m, 0], k])
                moved += np.sqrt(p.slip[j, 0] ** 2 + p.slip[j, 1] ** 2 + p.slip[j, 2] ** 2)
        code_count = 1
        code_list[0] = base & ~moving
        bits = 0
        for j in range(many):
            if (moving >> j) & 1 and bits < 3:
                bits += 1
                for i in range(code_count):
                    code_list[code_count + i] = code_list[i] | (1 << j)
                code_count *= 2
            elif (moving >> j) & 1:
                moving &= ~(1 << j)
        # ---- its corners, and which contacts are near enough to matter
        corner_count, piece_count = nv, 1
        for i in range(nv):
            node = corners[m, i]
            names[i] = _mix(np.uint64(node) + np.uint64(1))
            rims[i] = rim[node]
            given[i] = -1
            pieces[0, i] = i
            for k in range(3):
                places[i, k] = nodes[node, k]
        acting_count = 0
        for s in range(surfaces):
            low_end, high_end = np.inf, -np.inf
            for i in range(nv):
                f = natural[corners[m, i], s]
                low_end, high_end = min(low_end, f), max(high_end, f)
            room = slipped if moving and s < first else far
            side[s] = 1 if low_end > room else (-1 if high_end < -room else 0)
            active[s] = side[s] == 0 if s < first else (moving >> (s - first)) & 1 != 0
            if active[s]:
                acting[acting_count] = s
                acting_count += 1
        for i in range(nv):
            x, y, z = places[i, 0], places[i, 1], places[i, 2]
            for ci in range(code_count):
                for r in range(acting_count):
                    s = acting[r]
                    if moving == 0:
                        values[i, s, ci] = natural[corners[m, i], s]
                    else:
                        f = surface_at(p, s, code_list[ci], x, y, z)
                        values[i, s, ci] = f if abs(f) >= LEAST else LEAST
                for j in range(many):
                    parts[i, j, ci] = share_at(p, j, code_list[ci], x, y, z) if (moving >> j) & 1 else 0.0
        live_count, covered = 0, False
        for k in range(labels):
            alive[k] = not covered
            whole = True
            for c in range(p.piece_start[k], p.piece_start[k + 1]):
                if side[p.piece_contacts[c]] < 0:
                    alive[k] = False
                whole &= side[p.piece_contacts[c]] > 0
            if alive[k]:
                live[live_count] = k
                live_count += 1
                covered = whole  # nothing that is older comes out
        # ---- faults first, then contacts, young to old
        for turn in range(stages.shape[0]):
            s, t = stages[turn, 0], stages[turn, 1]
            fault = s - first
            if not active[s] or (t >= 0 and not alive[t]):
                continue
            needed = False
            for ci in range(code_count):
                low, high = False, False
                for i in range(corner_count):
                    low |= values[i, s, ci] < 0.0
                    high |= values[i, s, ci] > 0.0
                needed |= low and high
            if not needed:
                continue
            for ci in range(code_count):
                code = code_list[ci]
                asked = moving if fault < 0 else moving & ((1 << fault) - 1)
                row = 0
                while row < piece_count:
                    best_a, best_b = -1, -1
                    best = np.uint64(0)
                    for i in range(nv):
                        for k in range(i + 1, nv):
                            a, b = pieces[row, i], pieces[row, k]
                            x, y = values[a, s, ci], values[b, s, ci]
                            if not ((x > 0.0 and y < 0.0) or (x < 0.0 and y > 0.0)):
                                continue
                            if fault >= 0:
                                if parts[a, fault, ci] <= 0.0 and parts[b, fault, ci] <= 0.0:
                                    continue
                            elif _passed(p, s, t, values, a, b, ci, live, live_count, active, far):
                                continue
                            if moving and not (
                                _belongs(values, parts, a, ci, code, asked, first)
                                and _belongs(values, parts, b, ci, code, asked, first)
                            ):
                                continue
                            lower, higher = (names[a], names[b]) if names[a] < names[b] else (names[b], names[a])
                            name = _named(lower, higher, s * (1 << 31) + (code & p.moved[s]))
                            if best_a < 0 or name < best:
                                best, best_a, best_b = name, i, k
                    if best_a < 0:
                        row += 1
                        continue
                    a, b = pieces[row, best_a], pieces[row, best_b]
                    if names[b] < names[a]:
                        a, b = b, a
                    new = -1
                    for i in range(nv, corner_count):
                        if names[i] == best:
                            new = i
                            break
                    if new < 0:
                        if corner_count >= CORNERS - 1 or piece_count >= PIECES - 1:
                            row += 1
                            continue
                        new = corner_count
                        corner_count += 1
                        share = _crossing(
                            p, s, code, places[a, 0], places[a, 1], places[a, 2], values[a, s, ci],
                            places[b, 0], places[b, 1], places[b, 2], values[b, s, ci],
                        )  # fmt: skip
                        long = 0.0
                        for k in range(3):
                            d = places[b, k] - places[a, k]
                            long += d * d
                            places[new, k] = places[a, k] + share * d
                        long = 2.0 * np.sqrt(long)
                        names[new] = best
                        rims[new] = rims[a] & rims[b]
                        given[new] = -1
                        x, y, z = places[new, 0], places[new, 1], places[new, 2]
                        for cj in range(code_count):
                            there = code_list[cj]
                            for j in range(many):
                                if (moving >> j) & 1:
                                    if parts[a, j, cj] <= 0.0 and parts[b, j, cj] <= 0.0:
                                        parts[new, j, cj] = 0.0
                                        there &= ~(1 << j)
                                    else:
                                        parts[new, j, cj] = share_at(p, j, code_list[cj], x, y, z)
                                        if parts[new, j, cj] <= 0.0:
                                            there &= ~(1 << j)
                            sided[cj] = there
                            for q in range(acting_count):
                                r = acting[q]
                                # What was cut keeps its sign; what is far from an edge as well.
                                one, two = values[a, r, cj], values[b, r, cj]
                                between = one + share * (two - one)
                                if one == 0.0 and two == 0.0:
                                    between = 0.0
                                elif step[r] > turn and min(abs(one), abs(two)) <= long:
                                    between = surface_at(p, r, there, x, y, z)
                                    if abs(between) < 1e-6:
                                        between = 1e-6
                                elif between == 0.0:
                                    between = 1e-9 if one + two >= 0.0 else -1e-9
                                values[new, r, cj] = between
                        mine_a, mine_b = values[a, s, ci], values[b, s, ci]
                        for cj in range(code_count):
                            # Where nothing moved, or this contact not, both sides have the same corner.
                            if sided[cj] == sided[ci] or (
                                abs(values[a, s, cj] - mine_a) < 1e-9 and abs(values[b, s, cj] - mine_b) < 1e-9
                            ):
                                values[new, s, cj] = 0.0
                    if piece_count >= PIECES - 1:
                        row += 1
                        continue
                    for i in range(nv):
                        pieces[piece_count, i] = pieces[row, i]
                    pieces[piece_count, best_a] = new
                    pieces[row, best_b] = new
                    piece_count += 1
        # ---- whose each piece is
        for row in range(piece_count):
            mine = 0
            for ci in range(code_count):
                good = True
                for i in range(nv):
                    if moving and not _belongs(values, parts, pieces[row, i], ci, code_list[ci], moving, first):
                        good = False
                        break
                if good:
                    mine = ci
                    break
            label = labels
            for place in range(live_count):
                k = live[place]
                held = True
                for c in range(p.piece_start[k], p.piece_start[k + 1]):
                    s = p.piece_contacts[c]
                    if not active[s]:
                        continue
                    total = 0.0
                    for i in range(nv):
                        total += values[pieces[row, i], s, mine]
                    if total == 0.0:
                        x, y, z = 0.0, 0.0, 0.0
                        for i in range(nv):
                            x += places[pieces[row, i], 0] / nv
                            y += places[pieces[row, i], 1] / nv
                            z += places[pieces[row, i], 2] / nv
                        total = surface_at(p, s, code_list[mine], x, y, z)
                    if total <= 0.0:
                        held = False
                        break
                if held:
                    label = k
                    break
            if sums.shape[0]:
                sums[owner[m], label] += _size(places, pieces, row, nv)
            whose[row] = label
        if faces.shape[1] == 0:
            continue
        several = moving != 0  # where a fault ends its sides may meet on faces that lie on nothing else
        for row in range(1, piece_count):
            several |= whose[row] != whose[0]
        # ---- faces between two labels; of those that another simplex has as well, all that may be such
        entry = 0
        for row in range(piece_count):
            for left_out in range(nv):
                rim_shared = -1
                key = np.uint64(0)
                for i in range(nv):
                    if i != left_out:
                        rim_shared &= rims[pieces[row, i]]
                        key += _mix(names[pieces[row, i]])
                if rim_shared != 0:
                    spot_count = _write(
                        places, names, given, pieces, row, nv, left_out, whose[row], 1, spots, spot_names, spot_count, faces,
                        face_labels, face_keys, key, face_count,
                    )  # fmt: skip
                    face_count += 1
                    continue
                slot = np.int64(key & np.uint64(_TABLE - 1))
                while table[slot, 0] == m + 1 and table_keys[slot] != key:
                    slot = (slot + 1) & (_TABLE - 1)
                if table[slot, 0] != m + 1:
                    table[slot, 0], table[slot, 1], table[slot, 2], table[slot, 3] = m + 1, row, left_out, 1
                    table_keys[slot] = key
                    waiting[entry] = slot
                    entry += 1
                    continue
                if whose[table[slot, 1]] != whose[row]:
                    for k in range(2):
                        r, o = (row, left_out) if k == 0 else (table[slot, 1], table[slot, 2])
                        spot_count = _write(
                            places, names, given, pieces, r, nv, o, whose[r], 0, spots, spot_names, spot_count, faces,
                            face_labels, face_keys, key, face_count,
                        )  # fmt: skip
                        face_count += 1
                table[slot, 3] = 0
        for q in range(entry):
            slot = waiting[q]
            if table[slot, 3] == 0:
                continue
            row, left_out = table[slot, 1], table[slot, 2]
            shared = several
            for r in range(acting_count):
                if shared:
                    break
                for ci in range(code_count):
                    zero = True
                    for i in range(nv):
                        if i != left_out and values[pieces[row, i], acting[r], ci] != 0.0:
                            zero = False
                            break
                    if zero:
                        shared = True
                        break
            if shared:
                spot_count = _write(
                    places, names, given, pieces, row, nv, left_out, whose[row], 0, spots, spot_names, spot_count, faces,
                    face_labels, face_keys, table_keys[slot], face_count,
                )  # fmt: skip
                face_count += 1
    return end, spot_count, face_count


@compiled(cache=True, error_model="numpy")
def _write(  # type: ignore[no-untyped-def]
    places, names, given, pieces, row, nv, left_out, label, rim, spots, spot_names, spot_count, faces, face_labels,
    face_keys, key, face_count,
):  # fmt: skip
    """Write a face with its corners and its key; returns how many corners there are now."""
    k = 0
    for i in range(nv):
        if i != left_out:
            v = pieces[row, i]
            if given[v] < 0:
                given[v] = spot_count
                spot_names[spot_count] = names[v]
                for w in range(3):
                    spots[spot_count, w] = places[v, w]
                spot_count += 1
            faces[face_count, k] = given[v]
            k += 1
    face_labels[face_count, 0] = label
    face_labels[face_count, 1] = _turned(places, pieces, row, nv, left_out)
    face_labels[face_count, 2] = rim
    face_keys[face_count] = key
    return spot_count


@compiled(cache=True, error_model="numpy")
def _size(places, pieces, row, nv):  # type: ignore[no-untyped-def]
    a, b = pieces[row, 0], pieces[row, 1]
    x1, y1, z1 = places[b, 0] - places[a, 0], places[b, 1] - places[a, 1], places[b, 2] - places[a, 2]
    if nv == 2:
        return np.sqrt(x1 * x1 + y1 * y1 + z1 * z1)
    c = pieces[row, 2]
    x2, y2, z2 = places[c, 0] - places[a, 0], places[c, 1] - places[a, 1], places[c, 2] - places[a, 2]
    u, v, w = y1 * z2 - z1 * y2, z1 * x2 - x1 * z2, x1 * y2 - y1 * x2
    if nv == 3:
        return 0.5 * np.sqrt(u * u + v * v + w * w)
    d = pieces[row, 3]
    return (
        abs(u * (places[d, 0] - places[a, 0]) + v * (places[d, 1] - places[a, 1]) + w * (places[d, 2] - places[a, 2]))
        / 6.0
    )


@compiled(cache=True, error_model="numpy")
def _turned(places, pieces, row, nv, left_out):  # type: ignore[no-untyped-def]
    """Return 1 when a face, its corners in their order, looks away from the corner left out (a side has it on its left), else -1."""
    if nv != 4:  # cutting keeps the sense in which a triangle goes round
        return -1 if left_out == 1 else 1
    a = pieces[row, 0 if left_out != 0 else 1]
    b = pieces[row, 1 if left_out > 1 else 2]
    c = pieces[row, 3 if left_out != 3 else 2]
    d = pieces[row, left_out]
    x1, y1, z1 = places[b, 0] - places[a, 0], places[b, 1] - places[a, 1], places[b, 2] - places[a, 2]
    x2, y2, z2 = places[c, 0] - places[a, 0], places[c, 1] - places[a, 1], places[c, 2] - places[a, 2]
    x3, y3, z3 = places[d, 0] - places[a, 0], places[d, 1] - places[a, 1], places[d, 2] - places[a, 2]
    det = x3 * (y1 * z2 - z1 * y2) + y3 * (z1 * x2 - x1 * z2) + z3 * (x1 * y2 - y1 * x2)
    return -1 if det > 0.0 else 1

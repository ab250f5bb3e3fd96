"""The loops behind significant intercepts, compiled: samples of all holes one after the other."""

from __future__ import annotations

import numpy as np

from ..compiled import compiled


@compiled(cache=True)
def running_end(hole, stop):  # type: ignore[no-untyped-def]
    """Deepest end so far of each hole (m), shape (n,); rows by hole and depth."""
    out = stop.copy()
    for k in range(1, len(stop)):
        if hole[k] == hole[k - 1] and out[k - 1] > out[k]:
            out[k] = out[k - 1]
    return out


@compiled(cache=True)
def runs(group, start, stop, value, cutoff, in_row, in_all):  # type: ignore[no-untyped-def]
    """First and last row of each intercept, shape (k,); rows (n,) by group and depth, groups below 0 are passed over."""
    first = np.empty(len(value), np.int64)
    last = np.empty(len(value), np.int64)
    count = 0
    i = 0
    while i < len(value):
        if not value[i] >= cutoff or group[i] < 0:
            i += 1
            continue
        metal, length, row, waste = 0.0, 0.0, 0.0, 0.0
        best = i
        k = i
        while k < len(value) and group[k] == group[i] and value[k] == value[k]:
            long = stop[k] - start[k]
            if value[k] >= cutoff:
                row = 0.0
            else:
                row += long
                waste += long
                if row > in_row or waste > in_all:
                    break
            metal += value[k] * long
            length += long
            if value[k] >= cutoff and metal >= cutoff * length - 1e-12 * abs(metal):
                best = k
            k += 1
        first[count] = i
        last[count] = best
        count += 1
        i = best + 1
    return first[:count], last[:count]

"""The menu that arranges the tracks of a strip log."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial

from PySide6.QtWidgets import QMenu

from ....core.items.tracks import MOST_TRACKS, Track, TrackKind

Tracks = tuple[Track, ...]


def track_menu(
    menu: QMenu,
    tracks: Tracks,
    ways: Mapping[str, Sequence[TrackKind]],
    more: Sequence[TrackKind],
    take: Callable[[Tracks], None],
) -> None:
    """Fill a menu: what can be added, and for each track what can become of it; `take` gets the tracks that are chosen.

    `more` are the kinds of tracks of other items that are there: planes, pictures.
    """
    add = menu.addMenu("Add a track")
    add.setEnabled(len(tracks) < MOST_TRACKS)
    for name, kinds in ways.items():
        if kinds:
            how = add.addMenu(name)
            for kind in kinds:
                how.addAction(kind).triggered.connect(
                    partial(_take, take, (*tracks, Track(kind, (name,), _width(kind))))
                )
    for kind in more:
        add.addAction(kind).triggered.connect(partial(_take, take, (*tracks, Track(kind, (), _width(kind)))))
    menu.addSeparator()
    for k, track in enumerate(tracks):
        _of_track(menu.addMenu(f"{k + 1}  {track.title}"), k, tracks, ways, take)


def _of_track(
    menu: QMenu, k: int, tracks: Tracks, ways: Mapping[str, Sequence[TrackKind]], take: Callable[[Tracks], None]
) -> None:
    track = tracks[k]

    def change(**values: object) -> Tracks:
        return (*tracks[:k], replace(track, **values), *tracks[k + 1 :])  # type: ignore[arg-type]

    def offer(words: str, made: Tracks, possible: bool = True) -> None:
        action = menu.addAction(words)
        action.setEnabled(possible)
        action.triggered.connect(partial(_take, take, made))

    offer("To the left", (*tracks[: k - 1], track, tracks[k - 1], *tracks[k + 1 :]) if k else tracks, k > 0)
    last = k == len(tracks) - 1
    offer("To the right", tracks if last else (*tracks[:k], tracks[k + 1], track, *tracks[k + 2 :]), not last)
    offer("Wider", change(width=min(track.width + 20, 600)))
    offer("Narrower", change(width=max(track.width - 20, 20)))
    if track.attributes:
        name = track.attributes[0]
        for kind in ways.get(name, ()):
            if kind != track.kind:
                offer(f"As {kind}", change(kind=kind))
        if track.kind in ("bars", "curve", "filled curve"):
            for scale in ("legend", "linear", "log"):
                if scale != track.scale:
                    offer(
                        "Scale of the legend" if scale == "legend" else f"{scale.capitalize()} scale",
                        change(scale=scale),
                    )
        if track.kind in ("curve", "filled curve"):
            more = menu.addMenu("Another curve in it")
            for other, kinds in ways.items():
                if "curve" in kinds and other not in track.attributes:
                    made = change(attributes=(*track.attributes, other))
                    more.addAction(other).triggered.connect(partial(_take, take, made))
    menu.addSeparator()
    offer("Take away", (*tracks[:k], *tracks[k + 1 :]))


def _width(kind: TrackKind) -> int:
    return {"rock": 46, "notes": 130, "values": 54, "planes": 76, "pictures": 90}.get(kind, 70)


def _take(take: Callable[[Tracks], None], tracks: Tracks, _: bool = False) -> None:
    take(tracks)

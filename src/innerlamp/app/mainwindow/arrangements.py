"""Arrangements of panes kept under names, for all projects of the user."""

from __future__ import annotations

import json
from dataclasses import replace
from functools import partial

from PySide6.QtWidgets import QInputDialog, QMenu, QWidget

from ..base import settings
from .centre import DEFAULT, Centre

_MOST = 20


def kept() -> dict[str, dict[str, object]]:
    """The arrangements that the user kept, by name."""
    out: dict[str, dict[str, object]] = {}
    for text in settings.load().arrangements:
        try:
            data = json.loads(text)
        except ValueError:
            continue
        if isinstance(data, dict) and isinstance(data.get("name"), str) and isinstance(data.get("state"), dict):
            out[data["name"]] = data["state"]
    return out


def keep(name: str, state: dict[str, object]) -> None:
    """Keep an arrangement; one of the same name is replaced, beyond twenty the oldest goes."""
    _write({**{n: s for n, s in kept().items() if n != name}, name: state})


def forget(name: str) -> None:
    """Drop an arrangement."""
    _write({n: s for n, s in kept().items() if n != name})


def _write(all_: dict[str, dict[str, object]]) -> None:
    texts = [json.dumps({"name": n, "state": s}) for n, s in all_.items()][-_MOST:]
    settings.save(replace(settings.load(), arrangements=tuple(texts)))


class ArrangementsMenu(QMenu):
    """Names to take, and what keeps and drops them."""

    def __init__(self, parent: QWidget, centre: Centre) -> None:
        super().__init__("&Arrangements of panes", parent)
        self.centre = centre
        self.aboutToShow.connect(self.fill)
        self.fill()

    def fill(self) -> None:
        """List what is kept now."""
        self.clear()
        self.addAction("Two by two").triggered.connect(lambda: self.centre.restore({"kinds": list(DEFAULT)}))
        names = list(kept())
        for name in names:
            self.addAction(name).triggered.connect(partial(self.take, name))
        self.addSeparator()
        self.addAction("&Keep this one as…").triggered.connect(partial(self.keep_as, ""))
        drop = self.addMenu("&Forget")
        drop.setEnabled(bool(names))
        for name in names:
            drop.addAction(name).triggered.connect(partial(forget, name))

    def take(self, name: str, _: bool = False) -> None:
        """Arrange the panes as was kept under a name."""
        state = kept().get(name)
        if state is not None:
            self.centre.restore(state)

    def keep_as(self, name: str = "", _: bool = False) -> None:
        """Keep the present arrangement; without a name it is asked for."""
        if not name:
            name, sure = QInputDialog.getText(self.parentWidget(), "Keep arrangement", "Name of this arrangement:")
            if not sure:
                return
        if name.strip():
            keep(name.strip(), self.centre.state())
            self.fill()

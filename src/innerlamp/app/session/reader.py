"""Items of a session, read beside the window's own thread."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from ...core.errors import LampError
from ...core.items.base import Item
from ...core.project import payload
from ...core.project.records import Entry
from ...core.project.store import Store
from ..base import background


class ItemReader:
    """Gives items that are at hand and reads the others; large arrays are mapped, and checked while they are shown.

    Parameters
    ----------
    came
        Told the id of an item that has come, or can't be read (`problems` says why).
    say
        Told a sentence about what went wrong.
    """

    def __init__(self, store: Store, came: Callable[[str], None], say: Callable[[str, str], None]) -> None:
        self.store, self._came, self._say = store, came, say
        self.problems: dict[str, str] = {}
        self.closed = False
        self._reading: set[int] = set()
        self._verified: set[str] = set()
        self._answers = background.Answers()
        self._answers.came.connect(self._answer)

    @property
    def reading(self) -> bool:
        """Whether items are still being read."""
        return bool(self._reading)

    def item(self, entry: Entry) -> Item | None:
        """Return an item if it is at hand; otherwise start reading it and return None."""
        if entry.id in self.problems:
            return None
        if self.store.loaded(entry.version):
            return self.store.load(entry.id, entry.version)
        if entry.version not in self._reading:
            self._reading.add(entry.version)
            folder, manifest = self.store.payloads, self.store.manifest(entry.version)
            background.start(
                self._answers,
                entry.version,
                lambda: payload.read_item(folder, manifest, mapped=True),
                "a part of the item can't be read",
            )
        return None

    def forget_problems(self, items: tuple[str, ...]) -> None:
        """Try again to read items that have another version now."""
        for item in items:
            self.problems.pop(item, None)

    def _answer(self, key: object, result: object) -> None:
        if self.closed:
            return
        if isinstance(key, int):
            self._read(key, result)
        elif isinstance(result, LampError):  # a large array that was mapped is not what it should be
            self._bad([e for e in self.store.entries() if str(key) in self._files(e)], result)

    def _read(self, version: int, result: object) -> None:
        self._reading.discard(version)
        owners = [e for e in self.store.entries() if e.version == version]
        if isinstance(result, LampError):
            self._bad(owners, result)
        elif isinstance(result, Item):
            self.store.keep(version, result)
            self._verify(version)
        for owner in owners:
            self._came(owner.id)

    def _bad(self, owners: list[Entry], error: LampError) -> None:
        for owner in owners:
            self.problems[owner.id] = str(error)
            self._came(owner.id)
        self._say(f"{owners[0].name if owners else 'item'}: {error}", "bad")

    def _files(self, entry: Entry) -> set[str]:
        return payload.files_of(self.store.manifest(entry.version))

    def _verify(self, version: int) -> None:
        folder = self.store.payloads
        for name in payload.files_of(self.store.manifest(version)) - self._verified:
            path = payload.file_path(folder, name)
            if name.endswith(".npy") and path.is_file() and path.stat().st_size > payload.MAPPED:
                self._verified.add(name)
                background.start(self._answers, name, partial(payload.verify, folder, name), "a part can't be checked")

    def close(self) -> None:
        """Drop every answer that is still under way."""
        self.closed = True
        self._answers.close()

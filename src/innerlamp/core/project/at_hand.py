"""Items that were read lately, up to so many bytes; what is lit stays, however much it is."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Collection

from ..items.base import Item
from ..kept import size_of

MOST = 1_000_000_000  # bytes of what is at hand without being lit


def none() -> Collection[int]:
    """Return no version: nothing has to stay."""
    return ()


class ItemsAtHand:
    """Items by version.

    Attributes
    ----------
    pinned
        Tells the versions that have to stay: those that a window shows, which would read them again at once.
    """

    def __init__(self, most: int = MOST) -> None:
        self.most = most
        self.pinned: Callable[[], Collection[int]] = none
        self._items: OrderedDict[int, tuple[Item, int]] = OrderedDict()
        self._bytes = 0

    def __contains__(self, version: int) -> bool:
        return version in self._items

    def __len__(self) -> int:
        return len(self._items)

    def get(self, version: int) -> Item:
        """Return an item that is at hand."""
        self._items.move_to_end(version)
        return self._items[version][0]

    def put(self, version: int, item: Item) -> None:
        """Keep an item; what was used longest ago goes, unless it has to stay."""
        if version in self._items:
            self._bytes -= self._items.pop(version)[1]
        self._items[version] = (item, size_of(item))
        self._bytes += self._items[version][1]
        if self._bytes <= self.most:
            return
        stay = {*self.pinned(), version}
        for old in [v for v in self._items if v not in stay]:
            self._bytes -= self._items.pop(old)[1]
            if self._bytes <= self.most:
                return

    def clear(self) -> None:
        """Let all go."""
        self._items.clear()
        self._bytes = 0

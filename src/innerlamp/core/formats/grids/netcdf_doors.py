"""What must be so before a NetCDF file is opened: it is whole, and nothing in it lies in another file.

The library fills what is missing at a file's end with zeros, and follows links of HDF5 to wherever they point. The
layout of the classic formats is that of the NetCDF users' guide ("File Format Specifications": CDF-1, -2 and -5).
"""

from __future__ import annotations

import struct
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO

from ...errors import InputError, refused

_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 4, 6: 8, 7: 1, 8: 2, 9: 4, 10: 8, 11: 8}
_MOST = 100_000  # dimensions, attributes, variables, objects
_TRIAL = ("-m", "innerlamp.core.formats.grids.netcdf_trial")
_SECONDS = 20
_FIX = "Copy the file again, whole"


@contextmanager
def opened(path: Path) -> Iterator[Any]:
    """Open a NetCDF file to read from.

    Raises
    ------
    InputError
        When it can't be read, is not whole, or refers to other files.
    """
    import netCDF4

    with path.open("rb") as handle:
        head = handle.read(4)
    if head[:3] == b"CDF":
        _is_whole(path)
    else:
        _tried(path)
    with refused("can't be read as NetCDF", path.name), netCDF4.Dataset(str(path.resolve())) as data:
        yield data


def _tried(path: Path) -> None:
    """Let a process of its own open the file first: damage can keep the library from ever coming back, or end it."""
    order = [sys.executable, "-P", *_TRIAL, str(path.resolve())]
    try:
        done = subprocess.run(order, capture_output=True, timeout=_SECONDS, check=False, stdin=subprocess.DEVNULL)
    except subprocess.TimeoutExpired:
        words = f"the library does not come to an end with it in {_SECONDS} seconds"
        raise InputError(f"can't be read as NetCDF: {words}", where=path.name, fix=_FIX) from None
    except OSError as error:
        raise InputError(f"no process could be started to try the file ({error.strerror})", where=path.name) from error
    if done.returncode == 2:
        what, _, fix = done.stdout.decode("utf-8", "replace").strip().partition("\n")
        raise InputError(what, where=path.name, fix=fix)
    if done.returncode:
        raise InputError("can't be read as NetCDF", where=path.name, fix=_FIX)


def stands_alone(path: Path) -> None:
    """Refuse a file of HDF5 that has parts in other files, or that the library can't walk through."""
    import h5py

    try:
        with h5py.File(str(path.resolve()), "r") as file:
            seen: set[int] = set()
            groups: list[Any] = [file]
            while groups:
                group = groups.pop()
                for name in group:
                    link = group.get(name, getlink=True)
                    if isinstance(link, h5py.ExternalLink):
                        raise _elsewhere(name, path)
                    if isinstance(link, h5py.SoftLink):
                        continue  # what it leads to is met under its own name
                    found = group[name]
                    address = int(h5py.h5o.get_info(found.id).addr)
                    if address in seen:
                        continue
                    seen.add(address)
                    if len(seen) > _MOST:
                        raise InputError("the file holds too many objects", where=path.name)
                    if isinstance(found, h5py.Group):
                        groups.append(found)
                    elif isinstance(found, h5py.Dataset) and (found.external or found.is_virtual):
                        raise _elsewhere(name, path)
    except InputError:
        raise
    except Exception as error:  # the library raises whatever a broken file leads it to
        raise InputError("can't be read as NetCDF", where=path.name, fix=_FIX) from error


def _elsewhere(name: str, path: Path) -> InputError:
    return InputError(f"'{name}' lies in another file", where=path.name, fix="Write it into one file")


class _Reader:
    """The head of a classic file, number by number."""

    def __init__(self, handle: BinaryIO, version: int) -> None:
        self.handle = handle
        self.wide = version == 5  # counts are 64 bits
        self.far = version != 1  # offsets are 64 bits

    def take(self, count: int) -> bytes:
        got = self.handle.read(count)
        if len(got) < count:
            raise ValueError("the head ends early")
        return got

    def number(self) -> int:
        return int(struct.unpack(">i", self.take(4))[0])

    def count(self) -> int:
        value = int(struct.unpack(">q", self.take(8))[0]) if self.wide else self.number()
        if not value >= 0:
            raise ValueError("a count is negative")
        return value

    def few(self) -> int:
        value = self.count()
        if value > _MOST:
            raise ValueError("a count is too large")
        return value

    def offset(self) -> int:
        return int(struct.unpack(">q", self.take(8))[0]) if self.far else self.number()

    def name(self) -> None:
        length = self.few()
        self.take(length + (-length) % 4)

    def attributes(self) -> None:
        self.number()
        for _ in range(self.few()):
            self.name()
            size = _SIZES[self.number()] * self.count()
            if size > 100_000_000:
                raise ValueError("an attribute is too large")
            self.take(size + (-size) % 4)


def _is_whole(path: Path) -> None:
    """Refuse a classic file that ends before its last value."""
    try:
        with path.open("rb") as handle:
            version = handle.read(4)[3]
            if version not in (1, 2, 5):
                raise ValueError("of no known version")
            read = _Reader(handle, version)
            streaming = 0xFFFFFFFFFFFFFFFF if read.wide else 0xFFFFFFFF
            records = int.from_bytes(read.take(8 if read.wide else 4), "big")
            read.number()
            lengths = []
            for _ in range(read.few()):
                read.name()
                lengths.append(read.count())
            read.attributes()
            read.number()
            fixed: list[tuple[int, int]] = []
            rows: list[tuple[int, int]] = []
            for _ in range(read.few()):
                read.name()
                shape = [lengths[read.count()] for _ in range(read.few())]
                read.attributes()
                size = _SIZES[read.number()]
                read.count()  # the size as written has no room for large variables: it is worked out
                begin = read.offset()
                along_records = bool(shape) and shape[0] == 0
                for length in shape[1:] if along_records else shape:
                    size *= length
                (rows if along_records else fixed).append((begin, size))
    except (OSError, ValueError, KeyError, IndexError, struct.error) as error:
        raise InputError("can't be read as NetCDF: its head is not whole", where=path.name, fix=_FIX) from error
    end = max((begin + size for begin, size in fixed), default=0)
    if rows and records not in (0, streaming):
        padded = [size + (-size) % 4 if len(rows) > 1 else size for _, size in rows]
        end = max(end, *(begin + sum(padded) * (records - 1) + size for begin, size in rows))
    there = path.stat().st_size
    if there < end:
        raise InputError(f"the file ends early: {there:,} of {end:,} bytes", where=path.name, fix=_FIX)

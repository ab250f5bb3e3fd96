"""VTK's XML files (VTP, VTI, VTR, VTU), read and written without VTK.

The layout is that of the open file format (VTK User's Guide, "XML File Formats"): arrays as text, as base64 or
as raw bytes behind the XML, plain or compressed by zlib.
"""

from __future__ import annotations

import base64
import re
import zlib
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError

EXTENSIONS = (".vtp", ".vti", ".vtr", ".vtu")
_LARGEST = 4_000_000_000
_TYPES = {
    "Int8": "i1",
    "UInt8": "u1",
    "Int16": "i2",
    "UInt16": "u2",
    "Int32": "i4",
    "UInt32": "u4",
    "Int64": "i8",
    "UInt64": "u8",
    "Float32": "f4",
    "Float64": "f8",
}
_NAMES = {v: k for k, v in _TYPES.items()}


@dataclass(frozen=True)
class VtkData:
    """What a file holds: its kind, arrays by role, and values of cells and points by name.

    `extent` is (x0, x1, y0, y1, z0, z1) in points for structured kinds; `arrays` has ``points`` and
    ``<group>/connectivity`` and so on for the others, ``x``, ``y``, ``z`` for rectilinear grids.
    """

    kind: str
    arrays: dict[str, NDArray[Any]]
    cells: dict[str, NDArray[Any]]
    points: dict[str, NDArray[Any]]
    extent: tuple[int, ...] = ()
    origin: tuple[float, ...] = ()
    spacing: tuple[float, ...] = ()


@dataclass
class _Source:
    """How the arrays of one file are packed."""

    order: str
    header: str
    packed: bool
    raw: bool
    tail: bytes
    spent: int = 0
    name: str = ""

    def take(self, size: int) -> None:
        self.spent += size
        if size < 0 or self.spent > _LARGEST:
            raise InputError("the arrays of the file are larger than 4 GB", where=self.name)


def read(path: Path) -> VtkData:
    """Read a file.

    Raises
    ------
    InputError
        When it is no such file, is damaged, or holds what is not supported (said in words).
    """
    if path.stat().st_size > _LARGEST:
        raise InputError("the file is larger than 4 GB", where=path.name)
    content = path.read_bytes()
    at = content.find(b"<AppendedData")
    head, tail, raw = content, b"", False
    if at >= 0:
        opening = content.find(b"_", at)
        if opening < 0:
            raise InputError("the appended data are missing", where=path.name)
        raw = b'"raw"' in content[at:opening]
        tail = content[opening + 1 :]
        head = content[:at] + b"</VTKFile>"
    if b"<!DOCTYPE" in head[:4096] or b"<!ENTITY" in head:
        raise InputError("the file defines entities, which is not allowed", where=path.name)
    try:
        root = ElementTree.fromstring(head)
        return _understood(root, raw, tail, path.name)
    except (ElementTree.ParseError, KeyError, ValueError, IndexError, zlib.error, OverflowError, MemoryError) as error:
        raise InputError(f"can't be read as a VTK file ({error})", where=path.name) from error


def _understood(root: ElementTree.Element, raw: bool, tail: bytes, name: str) -> VtkData:
    if root.tag != "VTKFile":
        raise InputError("the file is not a VTK file", where=name)
    kind = root.get("type", "")
    body = root.find(kind) if kind else None
    if body is None or kind not in ("PolyData", "ImageData", "RectilinearGrid", "UnstructuredGrid"):
        raise InputError(f"VTK files of kind '{kind}' are not read", where=name, fix="Use VTP, VTI, VTR or VTU")
    compressor = root.get("compressor", "")
    if compressor not in ("", "vtkZLibDataCompressor"):
        raise InputError(
            f"the file is compressed by {compressor}", where=name, fix="Write it with zlib or without compression"
        )
    order = "<" if root.get("byte_order", "LittleEndian") == "LittleEndian" else ">"
    header = order + ("u8" if root.get("header_type") == "UInt64" else "u4")
    source = _Source(order, header, bool(compressor), raw, tail, name=name)
    pieces = body.findall("Piece")
    if not pieces:
        raise InputError("the file has no piece", where=name)
    if kind in ("ImageData", "RectilinearGrid"):
        if len(pieces) > 1:
            raise InputError("the grid is cut into several pieces", where=name, fix="Write it in one piece")
        piece = pieces[0]
        arrays = {}
        if kind == "RectilinearGrid":
            found = piece.find("Coordinates")
            given = [_array(e, source) for e in (found if found is not None else [])]
            arrays = {axis: values.astype(float) for axis, values in zip("xyz", given, strict=True)}
        extent = tuple(int(v) for v in (piece.get("Extent") or body.get("WholeExtent") or "").split())
        if len(extent) != 6 or any(not 0 <= b - a < 10_000_000 for a, b in zip(extent[::2], extent[1::2], strict=True)):
            raise ValueError("the extent of the grid makes no sense")
        return VtkData(
            kind,
            arrays,
            _named(piece.find("CellData"), source),
            _named(piece.find("PointData"), source),
            extent,
            tuple(float(v) for v in body.get("Origin", "0 0 0").split()),
            _spacing(body, name),
        )
    return _joined(kind, [_mesh_piece(piece, kind, source) for piece in pieces])


def _spacing(body: ElementTree.Element, name: str) -> tuple[float, ...]:
    direction = body.get("Direction")
    if direction and not np.allclose([float(v) for v in direction.split()], np.eye(3).ravel(), atol=1e-9):
        raise InputError("the grid is turned", where=name, fix="Only grids along east, north and up are read")
    return tuple(float(v) for v in body.get("Spacing", "1 1 1").split())


def _mesh_piece(piece: ElementTree.Element, kind: str, source: _Source) -> VtkData:
    points = piece.find("Points")
    array = _array(points[0], source) if points is not None and len(points) else np.empty((0, 3))
    arrays = {"points": np.asarray(array, dtype=float).reshape(-1, 3)}
    for group in ("Polys", "Strips", "Cells") if kind == "UnstructuredGrid" else ("Polys", "Strips"):
        element = piece.find(group)
        for each in element if element is not None else []:
            arrays[f"{group}/{each.get('Name')}"] = _array(each, source).astype(np.int64)
        _check_cells(arrays, group)
    return VtkData(kind, arrays, _named(piece.find("CellData"), source), _named(piece.find("PointData"), source))


def _check_cells(arrays: dict[str, NDArray[Any]], group: str) -> None:
    if f"{group}/connectivity" not in arrays and f"{group}/offsets" not in arrays:
        return
    connectivity, offsets = arrays[f"{group}/connectivity"], arrays[f"{group}/offsets"]
    steps = np.diff(offsets, prepend=0)
    if (
        connectivity.ndim != 1
        or offsets.ndim != 1
        or (steps < 0).any()
        or (len(offsets) and offsets[-1] > len(connectivity))
    ):
        raise ValueError("the cells do not fit their corners")
    if len(connectivity) and (connectivity.min() < 0 or connectivity.max() >= len(arrays["points"])):
        raise ValueError("cells point to places that are not there")


def _joined(kind: str, parts: list[VtkData]) -> VtkData:
    if len(parts) == 1:
        return parts[0]
    arrays: dict[str, list[NDArray[Any]]] = {}
    shift: dict[str, int] = {}
    for part in parts:
        for name, values in part.arrays.items():
            moved = values
            if name.endswith("/connectivity"):
                moved = values + shift.get("points", 0)
            elif name.endswith("/offsets"):
                moved = values + shift.get(name, 0)
                shift[name] = int(moved[-1]) if len(moved) else shift.get(name, 0)
            arrays.setdefault(name, []).append(moved)
        shift["points"] = shift.get("points", 0) + len(part.arrays["points"])
    common = set.intersection(*(set(p.cells) for p in parts))
    cells = {n: np.concatenate([p.cells[n] for p in parts]) for n in sorted(common)}
    return VtkData(kind, {n: np.concatenate(v) for n, v in arrays.items()}, cells, {})


def _named(element: ElementTree.Element | None, source: _Source) -> dict[str, NDArray[Any]]:
    out = {}
    for number, each in enumerate(element if element is not None else []):
        if each.tag == "DataArray" and each.get("type") in _TYPES:
            out[each.get("Name") or f"value {number + 1}"] = _array(each, source)
    return out


def _array(element: ElementTree.Element, source: _Source) -> NDArray[Any]:
    kind = np.dtype(source.order + _TYPES[element.get("type", "")])
    how = element.get("format", "ascii")
    if how == "ascii":
        words = (element.text or "").split()
        source.take(8 * len(words))
        values = np.array(words, dtype=np.float64 if kind.kind == "f" else np.int64)
    else:
        if how == "appended":
            content = source.tail[int(element.get("offset", "0")) :]
            data = _unpacked(content, source) if source.raw else _unpacked(_plain(content), source, encoded=True)
        else:
            data = _unpacked(_plain((element.text or "").encode()), source, encoded=True)
        values = np.frombuffer(data, dtype=kind)
    width = int(element.get("NumberOfComponents") or 1)
    return values.reshape(-1, width) if width > 1 else values


def _plain(text: bytes) -> bytes:
    end = text.find(b"<")
    return re.sub(rb"\s+", b"", text if end < 0 else text[:end])


def _decoded(text: bytes, start: int, size: int) -> tuple[bytes, int]:
    """Return `size` bytes of base64 that begin at `start`, and where their text ends."""
    length = 4 * -(-size // 3)
    return base64.b64decode(text[start : start + length])[:size], start + length


def _unpacked(content: bytes, source: _Source, encoded: bool = False) -> bytes:
    word = np.dtype(source.header).itemsize

    def words(data: bytes) -> list[int]:
        return [int(v) for v in np.frombuffer(data, dtype=source.header)]

    if not source.packed:
        first = _decoded(content, 0, word)[0] if encoded else content[:word]
        size = words(first)[0]
        source.take(size)
        data = _decoded(content, 0, word + size)[0] if encoded else content[: word + size]
        if len(data) < word + size:
            raise ValueError("an array is cut short")
        return data[word:]
    first = _decoded(content, 0, 3 * word)[0] if encoded else content[: 3 * word]
    blocks, block_size, last = words(first)
    if blocks > 10_000_000:
        raise ValueError("an array has too many blocks")
    source.take(blocks * block_size)
    whole = (3 + blocks) * word
    header, at = _decoded(content, 0, whole) if encoded else (content[:whole], whole)
    sizes = words(header)[3:]
    packed = _decoded(content, at, sum(sizes))[0] if encoded else content[at : at + sum(sizes)]
    out, place = [], 0
    for number, size in enumerate(sizes):
        room = last if last and number == blocks - 1 else block_size
        part = zlib.decompressobj().decompress(packed[place : place + size], room)
        if len(part) != room:
            raise ValueError("a block is cut short")
        out.append(part)
        place += size
    return b"".join(out)


# ---- writing


@dataclass
class Writer:
    """Collects arrays behind the XML, as raw bytes with 64-bit lengths."""

    kind: str
    lines: list[str] = field(default_factory=list)
    blob: list[bytes] = field(default_factory=list)
    size: int = 0

    def open(self, tag: str, **values: object) -> None:
        """Open an element."""
        self.lines.append(f"<{tag}" + "".join(f' {k}="{v}"' for k, v in values.items()) + ">")

    def close(self, *tags: str) -> None:
        """Close elements."""
        self.lines += [f"</{tag}>" for tag in tags]

    def array(self, name: str, values: NDArray[Any]) -> None:
        """Add an array; two-dimensional ones have their second axis as components."""
        kind = "f8" if values.dtype.kind == "f" else "i8"
        if values.dtype == np.uint8:
            kind = "u1"
        data = np.ascontiguousarray(values, dtype="<" + kind)
        width = f' NumberOfComponents="{values.shape[1]}"' if values.ndim == 2 else ""
        safe = name.replace("&", "&amp;").replace("<", "&lt;").replace('"', "&quot;")
        self.lines.append(
            f'<DataArray type="{_NAMES[kind]}" Name="{safe}"{width} format="appended" offset="{self.size}"/>'
        )
        packed = np.array([data.nbytes], dtype="<u8").tobytes() + data.tobytes()
        self.blob.append(packed)
        self.size += len(packed)

    def save(self, path: Path) -> None:
        """Write the file."""
        with path.open("wb") as handle:
            handle.write(b'<?xml version="1.0"?>\n')
            handle.write(
                f'<VTKFile type="{self.kind}" version="1.0" byte_order="LittleEndian" header_type="UInt64">\n'.encode()
            )
            handle.write("\n".join(self.lines).encode() + b'\n<AppendedData encoding="raw">\n_')
            handle.writelines(self.blob)
            handle.write(b"\n</AppendedData>\n</VTKFile>\n")

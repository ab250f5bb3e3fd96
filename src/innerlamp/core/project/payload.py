"""Payload files: immutable parts of items, named by their content.

Tables are Parquet; every array is an NPY file of its own, without pickles, so that a property is
added without writing the others again and a large array is mapped into memory instead of read.
A file is written under a temporary name, flushed to disk and then renamed, so a name that exists
is always whole. Its digest is checked on every read, so that damage is noticed and named; only
the window maps arrays of more than `MAPPED` bytes without it, and checks those in the background
(`verify`).
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import io
import json
import os
import tokenize
import zipfile
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq

from ..errors import ProjectError
from ..items.base import Item, Parts
from ..items.kinds import KINDS
from . import ground_rules

Manifest = dict[str, Any]
MAPPED = 16_000_000  # bytes from which an array is mapped rather than read


def digest(data: bytes) -> str:
    """Return the name of a content."""
    return hashlib.blake2b(data, digest_size=20).hexdigest()


def write_file(folder: Path, data: Iterable[bytes | memoryview] | bytes, suffix: str) -> str:
    """Write one immutable file, durably, and return its name. Writing it again does nothing."""
    parts = [data] if isinstance(data, bytes) else list(data)
    told = hashlib.blake2b(digest_size=20)
    for part in parts:
        told.update(part)
    name = told.hexdigest() + suffix
    target = folder / name[:2] / name
    if _is_whole(target, name, sum(memoryview(part).nbytes for part in parts)):
        return name
    temporary = target.with_name(f".{name}.{os.getpid()}.part")
    try:
        _make_folder(target.parent)
        with temporary.open("wb") as handle:
            for part in parts:
                handle.write(part)
            handle.flush()
            os.fsync(handle.fileno())
        temporary.rename(target)
        sync_folder(target.parent)
    except OSError as error:
        with contextlib.suppress(OSError):
            temporary.unlink(missing_ok=True)
        raise ProjectError(
            f"a part of the project can't be written ({error.strerror or error}); it is as it was before",
            where=str(folder),
            fix="Make room on the disk"
            if error.errno in (errno.ENOSPC, errno.EDQUOT)
            else "Look whether it can be written",
        ) from error
    return name


def _is_whole(target: Path, name: str, size: int) -> bool:
    """Whether a file is there with the content that its name says: damaged bytes are written anew."""
    try:
        if not ground_rules.is_plain(target) or target.stat().st_size != size:
            return False
        return _digest_of(target) == name.split(".", maxsplit=1)[0]
    except OSError:
        return False


def _make_folder(folder: Path) -> None:
    """Make a folder of parts where it is not there, and its entry in the one above durable."""
    if not folder.is_dir():
        folder.mkdir(parents=True, exist_ok=True)
        sync_folder(folder.parent)


def sync_folder(folder: Path) -> None:
    """Make renames in a folder durable."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def read_file(folder: Path, name: str) -> bytes:
    """Read one payload file.

    Raises
    ------
    ProjectError
        When it is missing, or its content is not what its name says.
    """
    path = file_path(folder, name)
    try:
        data = ground_rules.read_plain(path)
    except OSError as error:
        raise _missing(path) from error
    if digest(data) != name.split(".", maxsplit=1)[0]:
        raise _damaged(path)
    return data


def file_path(folder: Path, name: str) -> Path:
    """Where a payload file is; a name that leads anywhere else is refused."""
    if "/" in name or name.startswith("."):
        raise ProjectError("a payload name points outside the project", where=name)
    return folder / name[:2] / name


def verify(folder: Path, name: str) -> None:
    """Check the content of one payload file without holding it in memory.

    Raises
    ------
    ProjectError
        When it is missing, or its content is not what its name says.
    """
    path = file_path(folder, name)
    try:
        whole = _digest_of(path) == name.split(".", maxsplit=1)[0]
    except OSError as error:
        raise _missing(path) from error
    if not whole:
        raise _damaged(path)


def _digest_of(path: Path) -> str:
    """The name that a file's content asks for, without holding it in memory."""
    told = hashlib.blake2b(digest_size=20)
    with path.open("rb") as handle:
        while chunk := handle.read(1 << 20):
            told.update(chunk)
    return told.hexdigest()


def _missing(path: Path) -> ProjectError:
    fix = "Restore it from a back-up, or make the item again"
    return ProjectError("a part of the project is missing", where=str(path), fix=fix)


def _damaged(path: Path) -> ProjectError:
    fix = "Restore it from a back-up, or make the item again"
    return ProjectError("a part of the project is damaged", where=str(path), fix=fix)


Written = tuple[Item, Manifest]  # an item that the project has already, and where its parts are


def write_item(folder: Path, item: Item, there: Sequence[Written] = ()) -> Manifest:
    """Write the parts of an item under `folder` and return the manifest that finds them again.

    Parts that are the very objects of items that are `there` already are not written and hashed again but found by their
    manifests.
    """
    parts = item.to_parts()
    tables: dict[int, tuple[str, dict[str, str]]] = {}
    arrays: dict[int, str] = {}
    for old, known in there:
        have = old.to_parts()
        kept = {} if isinstance(known.get("arrays"), str) else known.get("arrays") or {}
        arrays |= {id(have.arrays[n]): file for n, file in kept.items() if n in have.arrays}
        columns = known.get("columns", {})
        tables |= {
            id(have.tables[n]): (file, columns.get(n, {})) for n, file in known["tables"].items() if n in have.tables
        }
    manifest: Manifest = {"kind": item.kind, "meta": parts.meta, "tables": {}, "arrays": {}, "columns": {}}
    for name, table in parts.tables.items():
        manifest["tables"][name], manifest["columns"][name] = tables.get(id(table)) or write_table(folder, table)
    for name, array in parts.arrays.items():
        manifest["arrays"][name] = arrays.get(id(array)) or write_array(folder, array)
    json.dumps(manifest, allow_nan=True)  # a value that can't be stored fails here, before any change
    return manifest


def write_table(folder: Path, table: pd.DataFrame) -> tuple[str, dict[str, str]]:
    """Write a table as Parquet; returns the name of the file, and a digest of each column's values."""
    sink = pa.BufferOutputStream()
    arrow = pa.Table.from_pandas(table, preserve_index=False)
    # Measures hardly repeat: a dictionary of them costs half of the time and saves nothing.
    repeating = [f.name for f in arrow.schema if not pa.types.is_floating(f.type)]
    pq.write_table(arrow, sink, compression="zstd", compression_level=1, use_dictionary=repeating)
    digests = {str(name): _digest(arrow.column(name)) for name in arrow.column_names}
    return write_file(folder, sink.getvalue().to_pybytes(), ".parquet"), digests


def _digest(column: pa.ChunkedArray) -> str:
    """Return a name for the values of a column: equal columns, equal names."""
    sink = pa.BufferOutputStream()
    batch = pa.record_batch([column.combine_chunks()], names=["v"])
    with pa.ipc.new_stream(sink, batch.schema) as out:
        out.write_batch(batch)
    return hashlib.blake2b(sink.getvalue(), digest_size=10).hexdigest()


def unchanged(old: Manifest, new: Manifest, known: Iterable[str], used: Iterable[str]) -> bool:
    """Return whether what is used of an item is the same in two versions: its places and the attributes that are named.

    `known` are the attributes of both versions: columns that are none of them are places and names, which always count.
    Findings, corrections and the item's name never do. Versions of earlier programs hold no digests and are taken as
    changed.
    """
    before, after = old.get("columns"), new.get("columns")
    arrays = [m.get("had_arrays", m["arrays"]) for m in (old, new)]
    if not before or not after or arrays[0] != arrays[1] or old["kind"] != new["kind"]:
        return False
    skipped = set(known) - set(used)
    for name in (set(before) | set(after)) - _ASIDE:
        pair = [{c: d for c, d in t.get(name, {}).items() if c not in skipped} for t in (before, after)]
        if pair[0] != pair[1] or not pair[0]:
            return False

    def meta(manifest: Manifest) -> dict[str, Any]:
        out = {}
        for key, value in manifest["meta"].items():
            if key == "name":
                continue
            by_attribute = isinstance(value, dict) and key in ("units", "quantities", "roles", "groups")
            out[key] = {k: v for k, v in value.items() if k not in skipped} if by_attribute else value
        return out

    return meta(old) == meta(new)


_ASIDE = {"findings", "corrections", "controls", "strays"}


def write_array(folder: Path, array: np.ndarray) -> str:
    """Write an array as NPY; returns the name of the file."""
    whole = np.ascontiguousarray(array).reshape(array.shape)
    if whole.dtype.hasobject:
        raise ProjectError("an array of objects can't be stored")
    head = io.BytesIO()
    np.lib.format.write_array_header_1_0(head, np.lib.format.header_data_from_array_1_0(whole))
    body = whole.reshape(-1).view(np.uint8).data if whole.size else b""
    return write_file(folder, [head.getvalue(), body], ".npy")


def _read_array(folder: Path, name: str, mapped: bool) -> np.ndarray:
    path = file_path(folder, name)
    try:
        if not ground_rules.is_plain(path):
            raise _missing(path)
        large = path.stat().st_size > MAPPED
    except OSError as error:
        raise _missing(path) from error
    if not large:
        return np.asarray(np.lib.format.read_array(io.BytesIO(read_file(folder, name)), allow_pickle=False))
    if not mapped:
        verify(folder, name)
    return np.asarray(np.load(path, mmap_mode="r", allow_pickle=False))


def read_item(folder: Path, manifest: Manifest, mapped: bool = False) -> Item:
    """Read an item; any thread may call it.

    Parameters
    ----------
    mapped
        Whether large arrays are opened without checking their digests first; the caller sees to that later.

    Raises
    ------
    ProjectError
        When a part is missing or damaged, or the kind is unknown to this version.
    """
    if not isinstance(manifest, dict) or not isinstance(manifest.get("kind"), str):
        raise ProjectError("a part of the project's catalogue is damaged", fix="Restore it from a back-up")
    kind = KINDS.get(manifest["kind"])
    if kind is None:
        raise ProjectError(
            f"this version does not know items of kind '{manifest['kind']}'",
            fix="Open the project with a newer Inner Lamp",
        )
    tables: dict[str, pd.DataFrame] = {}
    arrays: dict[str, np.ndarray] = {}
    try:
        for name, file in manifest["tables"].items():
            tables[name] = pq.read_table(pa.BufferReader(read_file(folder, file))).to_pandas()
        if isinstance(manifest["arrays"], str):  # projects of the first schema hold all arrays in one archive
            with np.load(io.BytesIO(read_file(folder, manifest["arrays"])), allow_pickle=False) as archive:
                arrays = {name: archive[name] for name in archive.files}
        else:
            arrays = {n: _read_array(folder, file, mapped) for n, file in (manifest["arrays"] or {}).items()}
        return kind.from_parts(Parts(meta=manifest["meta"], tables=tables, arrays=arrays))
    except _UNREADABLE as error:
        meta = manifest.get("meta")
        name = str(meta.get("name", "")) if isinstance(meta, dict) else ""
        raise ProjectError(f"a part of the item can't be read ({error})", where=name) from error


# What libraries raise on content that is whole by its digest and yet no table, array or manifest.
_UNREADABLE = (
    pa.ArrowException,
    zipfile.BadZipFile,
    tokenize.TokenError,
    OSError,
    ValueError,
    LookupError,
    TypeError,
    AttributeError,
    EOFError,
)


def files_of(manifest: Mapping[str, Any]) -> set[str]:
    """Names of all files that a manifest needs."""
    arrays = manifest["arrays"] or {}
    return set(manifest["tables"].values()) | ({arrays} if isinstance(arrays, str) else set(arrays.values()))


def size_of(folder: Path, manifest: Mapping[str, Any]) -> int:
    """Bytes of all files of a manifest that are there."""
    paths = [file_path(folder, name) for name in files_of(manifest)]
    return sum(path.stat().st_size for path in paths if path.exists())


def adopt(staging: Path, folder: Path, manifest: Manifest) -> None:
    """Move the files of a manifest from a worker's folder into the project's."""
    for name in files_of(manifest):
        source, target = file_path(staging, name), file_path(folder, name)
        if source.exists() and _is_whole(target, name, source.stat().st_size):
            continue
        if not source.exists() and target.exists():
            continue
        _make_folder(target.parent)
        source.rename(target)
        sync_folder(target.parent)

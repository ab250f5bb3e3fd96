"""Payload files: immutable parts of items, named by their content.

Tables are Parquet, arrays are NPZ without pickles. A file is written under a temporary name,
flushed to disk and then renamed, so a name that exists is always whole; its digest is checked
on every read, so that damage is noticed and named.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq

from ..errors import ProjectError
from ..items.base import Item, Parts
from ..items.kinds import KINDS

Manifest = dict[str, Any]


def digest(data: bytes) -> str:
    """Return the name of a content."""
    return hashlib.blake2b(data, digest_size=20).hexdigest()


def write_file(folder: Path, data: bytes, suffix: str) -> str:
    """Write one immutable file, durably, and return its name. Writing it again does nothing."""
    name = digest(data) + suffix
    target = folder / name[:2] / name
    if target.exists() and target.stat().st_size == len(data):
        return name
    target.parent.mkdir(parents=True, exist_ok=True)
    temporary = target.with_name(f".{name}.{os.getpid()}.part")
    with temporary.open("wb") as handle:
        handle.write(data)
        handle.flush()
        os.fsync(handle.fileno())
    temporary.rename(target)
    sync_folder(target.parent)
    return name


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
    if "/" in name or name.startswith("."):
        raise ProjectError("a payload name points outside the project", where=name)
    path = folder / name[:2] / name
    try:
        data = path.read_bytes()
    except OSError as error:
        raise ProjectError(
            "a part of the project is missing", where=str(path), fix="Restore it from a back-up, or make the item again"
        ) from error
    if digest(data) != name.split(".", maxsplit=1)[0]:
        raise ProjectError(
            "a part of the project is damaged", where=str(path), fix="Restore it from a back-up, or make the item again"
        )
    return data


def write_item(folder: Path, item: Item) -> Manifest:
    """Write the parts of an item under `folder` and return the manifest that finds them again."""
    parts = item.to_parts()
    manifest: Manifest = {"kind": item.kind, "meta": parts.meta, "tables": {}, "arrays": None}
    for name, table in parts.tables.items():
        sink = pa.BufferOutputStream()
        arrow = pa.Table.from_pandas(table, preserve_index=False)
        # Measures hardly repeat: a dictionary of them costs half of the time and saves nothing.
        repeating = [f.name for f in arrow.schema if not pa.types.is_floating(f.type)]
        pq.write_table(arrow, sink, compression="zstd", compression_level=1, use_dictionary=repeating)
        manifest["tables"][name] = write_file(folder, sink.getvalue().to_pybytes(), ".parquet")
    if parts.arrays:
        buffer = io.BytesIO()
        np.savez(buffer, allow_pickle=False, **parts.arrays)
        manifest["arrays"] = write_file(folder, buffer.getvalue(), ".npz")
    json.dumps(manifest, allow_nan=True)  # a value that can't be stored fails here, before any change
    return manifest


def read_item(folder: Path, manifest: Manifest) -> Item:
    """Read an item; any thread may call it.

    Raises
    ------
    ProjectError
        When a part is missing or damaged, or the kind is unknown to this version.
    """
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
        if manifest["arrays"]:
            with np.load(io.BytesIO(read_file(folder, manifest["arrays"])), allow_pickle=False) as archive:
                arrays = {name: archive[name] for name in archive.files}
    except (pa.ArrowException, ValueError, zipfile.BadZipFile) as error:
        raise ProjectError(
            f"a part of the item can't be read ({error})", where=str(manifest["meta"].get("name", ""))
        ) from error
    return kind.from_parts(Parts(meta=manifest["meta"], tables=tables, arrays=arrays))


def files_of(manifest: Manifest) -> set[str]:
    """Names of all files that a manifest needs."""
    names = set(manifest["tables"].values())
    return names | ({manifest["arrays"]} if manifest["arrays"] else set())


def adopt(staging: Path, folder: Path, manifest: Manifest) -> None:
    """Move the files of a manifest from a worker's folder into the project's."""
    for name in files_of(manifest):
        source, target = staging / name[:2] / name, folder / name[:2] / name
        if target.exists():
            continue
        target.parent.mkdir(parents=True, exist_ok=True)
        source.rename(target)
        sync_folder(target.parent)

"""Reading and comparing items beside the window's own thread."""

from __future__ import annotations

import contextlib
from pathlib import Path

from PySide6.QtCore import QObject, QRunnable
from PySide6.QtCore import Signal as QtSignal

from ..core.errors import LampError, ProjectError
from ..core.operations import differences
from ..core.project import payload


class Reader(QObject):
    done = QtSignal(int, object)
    compared = QtSignal(object, object)


class ReadTask(QRunnable):
    def __init__(self, folder: Path, version: int, manifest: payload.Manifest, reader: Reader) -> None:
        super().__init__()
        self._what = (folder, version, manifest)
        self._reader = reader

    def run(self) -> None:
        folder, version, manifest = self._what
        result: object
        try:
            result = payload.read_item(folder, manifest)
        except LampError as error:
            result = error
        except Exception as error:
            result = ProjectError(f"a part of the item can't be read ({error})")
        with contextlib.suppress(RuntimeError):  # the window may have closed meanwhile
            self._reader.done.emit(version, result)


class CompareTask(QRunnable):
    def __init__(
        self, folder: Path, versions: tuple[int, int], manifests: list[payload.Manifest], reader: Reader
    ) -> None:
        super().__init__()
        self._what = (folder, versions, manifests)
        self._reader = reader

    def run(self) -> None:
        folder, versions, manifests = self._what
        result: object
        try:
            old, new = (payload.read_item(folder, m) for m in manifests)
            result = differences.difference(old, new)
        except LampError as error:
            result = str(error)
        except Exception as error:
            result = f"The two can't be compared ({error})."
        with contextlib.suppress(RuntimeError):
            self._reader.compared.emit(versions, result)

"""The kernel of a survey in parts, each made and held by a worker of its own: a process here, or one of a cluster.

The readings are split by rows. A part is known by what it is made of, so that a worker that has not made it yet, or
one that takes the place of a worker that died, makes it; the others keep theirs. Products go to all parts at once.
"""

from __future__ import annotations

import contextlib
import ipaddress
import os
import subprocess
import sys
import uuid
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from multiprocessing.connection import Connection, Pipe
from typing import Any, Literal, Protocol, Self, cast

import numpy as np
from numpy.typing import NDArray

from ...errors import InputError
from ...geometry.mesh import Mesh
from ...progress import SILENT, Progress
from ...shown import clipped, one_line
from .fields import FieldKernel
from .linear import Operator

FloatArray = NDArray[np.float64]
Product = Literal["norms", "apply", "transposed"]
_TRIES = 3  # workers that may die over one part
_HELD = 6  # parts that a process of a cluster keeps


@dataclass(frozen=True, eq=False)
class Part:
    """What a worker needs to make the kernel of some readings; see `Lattice`."""

    mesh: Mesh
    obs: FloatArray
    fields: tuple[FieldKernel, ...]
    active: NDArray[np.bool_]
    key: str = ""

    def make(self) -> Operator:
        """Return the kernel of the readings."""
        from .lattice import Lattice

        return Lattice(self.mesh, self.obs, self.fields, self.active)


def parts_of(
    mesh: Mesh, obs: FloatArray, fields: Sequence[FieldKernel], active: NDArray[np.bool_], count: int
) -> list[tuple[NDArray[np.int64], Part]]:
    """Return rows (n of each,) and parts of about as many readings each; neighbours in the order of the survey stay together.

    `obs` are sensors (n, 3) in metres.
    """
    out = []
    for rows in np.array_split(np.arange(len(obs)), max(min(count, len(obs)), 1)):
        out.append((rows, Part(mesh, obs[rows], tuple(fields), active, uuid.uuid4().hex)))
    return out


_MADE: dict[str, Operator] = {}  # kernels that this process holds, by part


def product(part: Part, what: Product, vector: FloatArray | None) -> FloatArray:
    """Return a product with the kernel of a part, which this process makes the first time that it is asked for it.

    The vector is a model (cells,) for ``apply``, data (n,) in the unit of the fields for ``transposed``.
    """
    kernel = _MADE.get(part.key)
    if kernel is None:
        kernel = part.make()
        while len(_MADE) >= _HELD:
            del _MADE[next(iter(_MADE))]
        _MADE[part.key] = kernel
    if what == "norms":
        return kernel.column_norms()
    assert vector is not None
    return kernel.apply(vector) if what == "apply" else kernel.transposed(vector)


class Workers(Protocol):
    """Those who make products with parts."""

    def ask(self, what: Product, vectors: Sequence[FloatArray | None]) -> list[FloatArray]:
        """Return the product of each part with its vector (cells,) or (n,), in the units of `product`, all at once."""

    def close(self) -> None:
        """Let the workers go."""


class Processes:
    """One process of this machine for each part; one that dies is replaced, and its part made again.

    Raises
    ------
    InputError
        When a part's workers die again and again, such as for want of memory.
    """

    def __init__(self, parts: Sequence[Part]) -> None:
        self._parts = list(parts)
        self._running: list[tuple[subprocess.Popen[bytes], Connection]] = []
        try:
            for part in self._parts:
                self._running.append(self._start(part))
        except BaseException:
            self.close()
            raise

    @property
    def pids(self) -> list[int]:
        """Process of each part."""
        return [process.pid for process, _ in self._running]

    def _start(self, part: Part) -> tuple[subprocess.Popen[bytes], Connection]:
        here, there = Pipe()
        threads = str(max((os.cpu_count() or 1) // len(self._parts), 1))
        process = subprocess.Popen(
            [sys.executable, "-P", "-m", "innerlamp.core.compute.potential.part_process", str(there.fileno())],
            pass_fds=(there.fileno(),),
            env={**os.environ, "NUMBA_NUM_THREADS": threads, "OMP_NUM_THREADS": threads},
            stdin=subprocess.DEVNULL,
        )
        there.close()
        here.send(part)
        return process, here

    def ask(self, what: Product, vectors: Sequence[FloatArray | None]) -> list[FloatArray]:
        """Return the product of each part with its vector (cells,) or (n,), in the units of `product`.

        Raises
        ------
        InputError
            When a part's workers die again and again.
        """
        asked = [self._send(number, what, vector) for number, vector in enumerate(vectors)]
        out = []
        for number, vector in enumerate(vectors):
            for _ in range(_TRIES):
                answer = self._answer(number) if asked[number] else None
                if answer is not None:
                    break
                self._replace(number)
                asked[number] = self._send(number, what, vector)
            else:
                raise InputError(
                    f"the worker of part {number + 1} ended {_TRIES} times",
                    fix="There may not be enough memory: take more parts, larger cells or less data",
                )
            if isinstance(answer, Exception):
                raise answer
            out.append(answer)
        return out

    def _send(self, number: int, what: Product, vector: FloatArray | None) -> bool:
        try:
            self._running[number][1].send((what, vector))
        except OSError:
            return False
        return True

    def _answer(self, number: int) -> Any:
        try:
            return self._running[number][1].recv()
        except (EOFError, OSError):
            return None

    def _replace(self, number: int) -> None:
        self._end(self._running[number])
        self._running[number] = self._start(self._parts[number])

    @staticmethod
    def _end(worker: tuple[subprocess.Popen[bytes], Connection]) -> None:
        process, connection = worker
        connection.close()
        process.kill()
        process.wait()

    def close(self) -> None:
        """End the processes."""
        for worker in self._running:
            self._end(worker)
        self._running.clear()


class Cluster:
    """The workers of a Dask cluster, which gives the part of one that dies to another.

    Their answers are plain numbers, which are checked and never unpickled; the scheduler itself is trusted, so that one
    that is not on this machine must show its certificate (TLS, set up by Dask's own settings).

    Parameters
    ----------
    parts
        One worker takes each, as long as it lives.
    address
        Of the scheduler, such as tls://10.0.0.5:8786; its workers must have this version of the program. What is sent
        there can make them do anything: take clusters that you trust.

    Raises
    ------
    InputError
        When no cluster answers there, it has no workers, or is on another machine and without TLS.
    """

    def __init__(self, parts: Sequence[Part], address: str) -> None:
        if not address.startswith("tls://") and not _is_here(address):
            raise InputError(
                "a cluster on another machine is reached by TLS only",
                where=address,
                fix="Start its scheduler and workers with certificates, name them in Dask's settings"
                " (distributed.comm.tls), and give its address as tls://...",
            )
        try:
            import dask.distributed
        except ImportError as error:  # it is an extra
            raise InputError("clusters need the package distributed", fix="Install inner-lamp[cluster]") from error
        try:
            self._client: Any = cast("Any", dask.distributed).Client(
                address,
                timeout=10,
                set_as_default=False,
                serializers=["dask", "pickle", "msgpack"],  # what goes there
                deserializers=["msgpack"],  # what comes back
            )
        except (OSError, ValueError, TypeError) as error:
            raise InputError(
                "no cluster answers there",
                where=address,
                fix="Give the address of its scheduler, such as tls://10.0.0.5:8786",
            ) from error
        workers = sorted(self._client.scheduler_info(n_workers=-1)["workers"])
        if not workers:
            self._client.close()
            raise InputError("the cluster has no workers", where=address)
        self._address = address
        self._rows = [len(part.obs) for part in parts]
        self._cells = [len(part.fields) * int(part.active.sum()) for part in parts]
        # As results of tasks, not as data that is handed over: what a dead worker held is made again by another.
        self._parts = [self._client.submit(_same, part, pure=False, retries=_TRIES) for part in parts]
        self._homes = [workers[number % len(workers)] for number in range(len(self._parts))]

    def ask(self, what: Product, vectors: Sequence[FloatArray | None]) -> list[FloatArray]:
        """Return the product of each part with its vector (cells,) or (n,), in the units of `product`.

        Raises
        ------
        InputError
            When a worker can't make it, or its answer is not what was asked for.
        """
        futures = [
            self._client.submit(
                packed, part, what, vector, pure=False, retries=_TRIES, workers=[home], allow_other_workers=True
            )
            for part, home, vector in zip(self._parts, self._homes, vectors, strict=True)
        ]
        try:
            answers = list(self._client.gather(futures))
        except TypeError as error:  # an answer of another kind
            raise self._odd() from error
        sizes = self._rows if what == "apply" else self._cells
        return [self._unpacked(answer, what, size) for answer, size in zip(answers, sizes, strict=True)]

    def _unpacked(self, answer: object, what: Product, size: int) -> FloatArray:
        """The numbers of an answer, of the length that was asked for (norms: one or one for each component)."""
        if isinstance(answer, str):
            raise InputError(f"a worker of the cluster stopped ({clipped(one_line(answer), 200)})", where=self._address)
        if not isinstance(answer, bytes) or len(answer) % 8:
            raise self._odd()
        values = np.frombuffer(answer, dtype="<f8").astype(float)
        if (
            len(values) != size and not (what == "norms" and len(values) and size % len(values) == 0)
        ) or not np.isfinite(values).all():
            raise self._odd()
        return values

    def _odd(self) -> InputError:
        return InputError(
            "a worker of the cluster answers something that was not asked for",
            where=self._address,
            fix="Look whether its workers have this version of Inner Lamp",
        )

    def close(self) -> None:
        """Let go of the cluster; its workers stay."""
        for future in self._parts:
            future.release()
        self._client.close()


def packed(part: Part, what: Product, vector: FloatArray | None) -> bytes | str:
    """Return a product with a vector (cells,) or (n,) as the bytes of its numbers, or in words why there is none: a worker's answer."""
    try:
        return np.ascontiguousarray(product(part, what, vector), dtype="<f8").tobytes()
    except Exception as error:
        return f"{type(error).__name__}: {error}"


def _is_here(address: str) -> bool:
    """Whether an address is on this machine."""
    host = address.rpartition("://")[2].rpartition(":")[0].strip("[]")
    with contextlib.suppress(ValueError):
        return ipaddress.ip_address(host).is_loopback
    return host == "localhost" or address.startswith("inproc://")


def _same(part: Part) -> Part:
    return part


class Parted:
    """The kernel of a survey as an operator (see `linear.Operator`) whose parts others hold."""

    def __init__(
        self,
        parts: Sequence[tuple[NDArray[np.int64], Part]],
        workers: Callable[[Sequence[Part]], Workers] = Processes,
        progress: Progress = SILENT,
    ) -> None:
        self._rows = [rows for rows, _ in parts]
        self._unknowns = len(parts[0][1].fields) * int(parts[0][1].active.sum())
        progress(0.0, "Workers")
        self.workers = workers([part for _, part in parts])
        try:
            squares = [norms**2 for norms in self.workers.ask("norms", [None] * len(parts))]
        except BaseException:
            self.workers.close()
            raise
        self._norms: FloatArray = np.sqrt(np.sum(np.stack(squares), axis=0))
        progress(1.0, "Workers")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(OSError):
            self.workers.close()

    @property
    def shape(self) -> tuple[int, int]:
        return sum(len(rows) for rows in self._rows), self._unknowns

    def apply(self, model: FloatArray) -> FloatArray:
        """Return the data (n,), in the unit of the fields, of a model (components x active cells,)."""
        out = np.empty(self.shape[0])
        for rows, values in zip(self._rows, self.workers.ask("apply", [model] * len(self._rows)), strict=True):
            out[rows] = values
        return out

    def transposed(self, data: FloatArray) -> FloatArray:
        """Return the product (components x active cells,) of the transposed operator with data (n,)."""
        return np.asarray(np.sum(self.workers.ask("transposed", [data[rows] for rows in self._rows]), axis=0))

    def column_norms(self) -> FloatArray:
        """Length (cells,), in the unit of the fields, of the data of each cell; of several components one for all of a cell's."""
        return self._norms

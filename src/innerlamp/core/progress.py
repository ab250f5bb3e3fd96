"""How slow functions tell how far they are, and learn that they should stop."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from .errors import Cancelled

Report = Callable[[float, str, Mapping[str, float]], None]


class Progress:
    """Receives reports of a running computation; this base class ignores them.

    A computation calls the object with the fraction done (0..1), a short message and named
    measures (``iteration=3, misfit=1.4``). The call raises `Cancelled` once a stop was asked for.
    """

    def __call__(self, fraction: float, message: str = "", **measures: float) -> None:
        """Report; may raise `Cancelled`."""

    @property
    def enough(self) -> bool:
        """Whether a computation that comes nearer step by step was asked to end with what it has."""
        return False

    @property
    def watched(self) -> bool:
        """Whether somebody wants to see what there is by now; false again for a while after each `show`."""
        return False

    def show(self, what: object) -> None:
        """Hand over what there is by now, such as the model of an iteration; it is not kept."""

    def part(self, start: float, stop: float) -> Progress:
        """Return a progress object whose 0..1 is the range `start`..`stop` of this one."""
        return _Part(self, start, stop)


class _Part(Progress):
    def __init__(self, whole: Progress, start: float, stop: float) -> None:
        self._whole, self._start, self._span = whole, start, stop - start

    @property
    def enough(self) -> bool:
        return self._whole.enough

    @property
    def watched(self) -> bool:
        return self._whole.watched

    def show(self, what: object) -> None:
        self._whole.show(what)

    def __call__(self, fraction: float, message: str = "", **measures: float) -> None:
        self._whole(self._start + self._span * min(max(fraction, 0.0), 1.0), message, **measures)


class CallbackProgress(Progress):
    """Passes reports to a function and asks others whether to stop, or to end with what there is.

    `view` gets what is shown, where `wanted` says that somebody looks.
    """

    def __init__(
        self,
        report: Report,
        stop: Callable[[], bool] | None = None,
        enough: Callable[[], bool] | None = None,
        wanted: Callable[[], bool] | None = None,
        view: Callable[[object], None] | None = None,
    ) -> None:
        self._report, self._stop, self._enough = report, stop, enough
        self._wanted, self._view = wanted, view

    @property
    def watched(self) -> bool:
        return self._wanted is not None and self._wanted()

    def show(self, what: object) -> None:
        if self._view is not None:
            self._view(what)

    @property
    def enough(self) -> bool:
        return self._enough is not None and self._enough()

    def __call__(self, fraction: float, message: str = "", **measures: float) -> None:
        if self._stop is not None and self._stop():
            raise Cancelled
        self._report(min(max(fraction, 0.0), 1.0), message, measures)


SILENT = Progress()

"""The demo prospect made in the window: it appears step by step, and everything can be used meanwhile."""

from __future__ import annotations

from pathlib import Path

from ...core.errors import LampError
from ...core.jobs.runner import Job
from ...core.project.store import Store
from ...core.running.table import find_operation
from ...demo import build, truth
from ..context.context import Context


class DemoInWindow:
    """Runs the steps of the demo one after the other as jobs; what was made before goes on where it stopped."""

    def __init__(self, ctx: Context) -> None:
        self.ctx = ctx
        self.ids: dict[str, str] = {}
        self.path: Path | None = None
        self._now: tuple[build.Step, Job] | None = None
        ctx.landed.connect(self._landed)
        ctx.jobs_changed.connect(self._jobs)
        ctx.project_changed.connect(self._forget)

    @property
    def busy(self) -> bool:
        """Whether steps of the demo still run."""
        return self._now is not None

    def open(self, place: Path) -> None:
        """Open the demo; what lacks of it is made.

        Raises
        ------
        LampError
            When the place can't be written or the project can't be opened.
        """
        if not (place / "catalogue.sqlite").is_file():
            place.parent.mkdir(parents=True, exist_ok=True)
            with Store.create(place, truth.CRS) as store:
                store.set_workspace(
                    {
                        "section": build.section_line(),
                        "demo": {},
                        "demo complete": False,
                        "demo version": build.VERSION,
                    }
                )
        self.ctx.open(place)
        store_now = self.ctx.store
        if store_now is not None and store_now.workspace("demo version") != build.VERSION:
            words = "This demo was made by an earlier version: 'inner-lamp demo --fresh' makes it anew, larger."
            self.ctx.say(words, "look")
            return
        if store_now is None or not store_now.writable or store_now.workspace("demo complete") is not False:
            return
        known = store_now.workspace("demo")
        there = {e.id for e in self.ctx.entries()}
        self.ids = {str(k): str(v) for k, v in known.items() if v in there} if isinstance(known, dict) else {}
        self.path = place
        self._take_up()
        self._next()

    def _take_up(self) -> None:
        """Know items again that a step made without its being noted: the window may have ended just then."""
        taken = set(self.ids.values())
        for operation, params, inputs, outputs in build.STEPS:
            if all(name in self.ids for name in outputs.values()):
                continue
            try:
                wanted = (
                    find_operation(operation).check(build.file_params(params)).model_dump(mode="json"),
                    {k: [v] if isinstance(v, str) else v for k, v in build.chosen_of(inputs, self.ids).items()},
                )
            except (LampError, KeyError):
                continue
            found: dict[str, str] = {}
            for entry in self.ctx.entries():
                first = entry.recipe
                if first is None or first.operation != operation or entry.dated or entry.id in taken:
                    continue
                given = {slot: [i for i, _ in pairs] for slot, pairs in first.inputs.items()}
                if (first.params, given) == wanted:
                    found.setdefault(first.output, entry.id)
            if set(outputs) <= set(found):
                self.ids |= {name: found[slot] for slot, name in outputs.items()}
                taken |= {found[slot] for slot in outputs}

    def _next(self) -> None:
        for step in build.STEPS:
            operation, params, inputs, outputs = step
            if all(name in self.ids for name in outputs.values()):
                continue
            try:
                chosen = build.chosen_of(inputs, self.ids)
                self._now = (step, self.ctx.start(operation, build.file_params(params), chosen))
            except (LampError, KeyError) as error:
                self.ctx.say(f"The demo can't be completed: {error}", "bad")
            return
        if self.ctx.store is not None:
            self.ctx.store.set_workspace({"demo complete": True})
            if not self.ctx.selected and "holes" in self.ids:
                self.ctx.select_item(self.ids["holes"])
        self.ctx.say("Emberlow is complete.", "good")

    def _landed(self, job: Job, made: dict[str, str]) -> None:
        if self._now is None or job is not self._now[1]:
            return
        outputs = self._now[0][3]
        self._now = None
        self.ids |= {name: made[slot] for slot, name in outputs.items()}
        store = self.ctx.store
        if store is None:
            return
        store.set_workspace({"demo": dict(self.ids)})
        for slot, name in outputs.items():
            self.ctx.set_lit(made[slot], name in build.LIT)
        self._next()

    def _jobs(self, jobs: list[Job]) -> None:
        if self._now is None or self._now[1].active or self._now[1].state == "done":
            return
        self.ctx.say(
            "The demo was not completed: open it again from the Project menu to go on.",
            "look" if self._now[1].state == "cancelled" else "bad",
        )
        self._now = None

    def _forget(self) -> None:
        store = self.ctx.store
        if store is None or self.path is None or store.path.resolve() != self.path.resolve():
            self._now, self.ids, self.path = None, {}, None

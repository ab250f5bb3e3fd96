"""The demo prospect made in the window: it appears step by step, and everything can be used meanwhile."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from ...core.errors import LampError
from ...core.jobs.runner import Job
from ...core.project.store import Store
from ...core.running.table import find_operation
from ...demo import build, truth
from ..base import settings
from ..context.context import Context
from .one_by_one import OneByOne


class DemoInWindow(OneByOne[build.Step]):
    """Runs the steps of the demo one after the other as jobs; what was made before goes on where it stopped."""

    def __init__(self, ctx: Context) -> None:
        super().__init__(ctx)
        self.ids: dict[str, str] = {}
        self.path: Path | None = None

    @property
    def busy(self) -> bool:
        """Whether steps of the demo still run."""
        return self.under_way

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
        settings.trust(place)  # its steps are the program's own
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
        self.ids = (
            {str(k): v for k, v in known.items() if isinstance(v, str) and v in there}
            if isinstance(known, dict)
            else {}
        )
        self.path = place
        self._take_up()
        self.go_on()

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

    def go_on(self) -> None:
        for step in build.STEPS:
            operation, params, inputs, outputs = step
            if all(name in self.ids for name in outputs.values()):
                continue
            try:
                chosen = build.chosen_of(inputs, self.ids)
                self.began(step, self.ctx.start(operation, build.file_params(params), chosen))
            except (LampError, KeyError) as error:
                self.ctx.say(f"The demo can't be completed: {error}", "bad")
            return
        if self.ctx.store is not None:
            self._remember({"demo complete": True})
            if not self.ctx.selected and "holes" in self.ids:
                self.ctx.select_item(self.ids["holes"])
        self.ctx.say("Emberlow is complete.", "good")

    def came(self, step: build.Step, outputs: Mapping[str, str]) -> None:
        self.ids |= {name: outputs[slot] for slot, name in step[3].items()}
        self._remember({"demo": dict(self.ids)})
        for slot, name in step[3].items():
            self.ctx.set_lit(outputs[slot], name in build.LIT)

    def _remember(self, values: dict[str, object]) -> None:
        if self.ctx.session is not None:
            self.ctx.session.remember(values)

    def failed(self, step: build.Step, job: Job) -> bool:
        self.ctx.say(
            "The demo was not completed: open it again from the Project menu to go on.",
            "look" if job.state == "cancelled" else "bad",
        )
        return False

    def project_changed(self) -> None:
        store = self.ctx.store
        if store is None or self.path is None or store.path.resolve() != self.path.resolve():
            self.forget()
            self.ids, self.path = {}, None

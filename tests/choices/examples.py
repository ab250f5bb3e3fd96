"""Running the examples of operations on a copy of the demo; what one made is there for those that come after it."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import Any

from innerlamp.api import Project
from innerlamp.core.declaring.operation import Operation
from innerlamp.core.items.base import Item
from innerlamp.core.items.holes import HoleSet
from innerlamp.core.project import payload
from innerlamp.core.running.table import OPERATIONS
from innerlamp.demo.build import file_params

# These read files that the demo does not ship; test_diurnal and test_more_data run them.
WITHOUT_EXAMPLE = {"diurnal-correction", "import-picture"}


class Examples:
    """Runs examples; an input or a file that is named by ``@`` is made first."""

    def __init__(self, project: Project, folder: Path) -> None:
        self.project, self.folder = project, folder

    def inputs(self, op: Operation, made: dict[str, str]) -> dict[str, Any]:
        assert op.example is not None
        return {
            slot: made[str(given)[1:]] if str(given).startswith("@") else given
            for slot, given in op.example.inputs.items()
        }

    def params(self, op: Operation) -> dict[str, Any]:
        assert op.example is not None
        out = file_params(op.example.params)
        file = str(out.get("file", ""))
        if file.startswith("@"):
            path = self.folder / file[1:].replace(" ", "_")
            if not path.is_file():
                self.project.export(Path(file[1:]).stem, path)
            out["file"] = str(path)
        return out

    def before(self, op: Operation, made: dict[str, str]) -> None:
        """Run what has to run first."""
        assert op.example is not None
        for earlier in op.example.after:
            if not any(key.startswith(f"{earlier}.") for key in made):
                self.run(earlier, made)

    def run(self, name: str, made: dict[str, str]) -> dict[str, str]:
        op = OPERATIONS[name]
        self.before(op, made)
        out = self.project.run(name, **self.inputs(op, made), **self.params(op))
        made |= {f"{name}.{slot}": item for slot, item in out.items()}
        return out


def seen(project: Project) -> dict[str, Any]:
    """What every item holds: names of content, so equal means equal byte for byte."""
    return {e.id: (e.name, sorted(payload.files_of(project.store.manifest(e.version)))) for e in project.items}


def few_rows(item: Item) -> Item:
    """The item with short tables: what all rows look like in a file the first ones tell as well, in a hundredth of the time."""
    if isinstance(item, HoleSet):
        cut = {n: t.head(200) for n, t in item.tables.items()}
        return dataclasses.replace(item, tables=cut, findings=item.findings.head(50))
    table = getattr(item, "table", None)
    if item.kind not in ("points", "lines", "targets", "electrodes") or table is None:
        return item
    return dataclasses.replace(item, table=table.head(200))  # type: ignore[call-arg]

"""The command line. Everything that can go wrong ends in one line on stderr and exit code 2."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, NoReturn

from . import __version__
from .core.errors import InputError, LampError
from .core.items.attributes import is_ground
from .core.progress import CallbackProgress, Progress


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        raise InputError(message, fix=f"See '{self.prog} --help'")


def main(argv: Sequence[str] | None = None) -> int:
    """Run the command line; returns the exit code."""
    try:
        args = _parser().parse_args(argv)
        result: int = args.run(args)
        return result
    except LampError as error:
        print(f"inner-lamp: {error}", file=sys.stderr)
        return 2
    except BrokenPipeError:
        return 0
    except KeyboardInterrupt:
        print("inner-lamp: stopped.", file=sys.stderr)
        return 130


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(
        prog="inner-lamp", description="Drillholes, geochemistry and geophysics in one place, to rank drill targets."
    )
    parser.add_argument("--version", action="version", version=f"Inner Lamp {__version__}")
    parser.set_defaults(run=_start)
    commands = parser.add_subparsers(title="commands", metavar="COMMAND")

    def command(name: str, help: str, run: Callable[[argparse.Namespace], int]) -> argparse.ArgumentParser:
        sub = commands.add_parser(name, help=help, description=help)
        sub.set_defaults(run=run)
        return sub

    sub = command("open", "open a project in the window", _open)
    sub.add_argument("project", type=Path)
    sub = command("demo", "open the made-up prospect Emberlow", _demo)
    sub.add_argument("--shots", type=Path, metavar="DIR", help="write one picture of each main view under DIR and end")
    sub.add_argument("--fresh", action="store_true", help="build the demo project anew first")
    sub = command("new", "make an empty project", _new)
    sub.add_argument("project", type=Path)
    sub.add_argument("crs", help="projected coordinate system in metres, such as EPSG:32629")
    sub = command("ops", "list the operations, or describe one", _ops)
    sub.add_argument("name", nargs="?")
    sub = command("apply", "run one operation on a project, with no window", _apply)
    sub.add_argument("project", type=Path)
    sub.add_argument("operation")
    sub.add_argument("values", nargs="*", metavar="name=value", help="inputs (item names or ids) and parameters")
    sub = command("bring", "bring files or folders into a project: each is told by its content", _bring)
    sub.add_argument("project", type=Path)
    sub.add_argument("files", nargs="+", type=Path)
    sub.add_argument("--look", action="store_true", help="only say what the files seem to be")
    sub.add_argument("--add-to", default="", metavar="HOLES", help="add holes to this set instead of making a new one")
    sub.add_argument(
        "--coordinates",
        default="",
        metavar="CODE",
        help="system of the tables' coordinates where it is not the project's",
    )
    sub.add_argument(
        "--day-order",
        choices=["auto", "day first", "month first"],
        default="auto",
        help="order of dates like 03/04/2023",
    )
    sub = command("refresh", "make the stale items of a project again", _refresh)
    sub.add_argument("project", type=Path)
    sub = command("check", "say what of a project is damaged, and what that touches", _check)
    sub.add_argument("project", type=Path)
    sub = command("items", "list the items of a project", _items)
    sub.add_argument("project", type=Path)
    sub = command("compare", "say what moved between two versions of an item, or two items", _compare)
    sub.add_argument("project", type=Path)
    sub.add_argument("item")
    sub.add_argument("other", nargs="?", help="another item, such as a dated copy; the version before when left out")
    sub = command("export", "write an item to a file, or several into one .omf file", _export)
    sub.add_argument("project", type=Path)
    sub.add_argument("item", nargs="+", help="name or id of an item; 'all' for every item (with a file ending in .omf)")
    sub.add_argument("file", type=Path)
    sub.add_argument("--dpi", type=float, default=300.0, help="dots per inch of a page that is written as a picture")
    command("doctor", "say what this machine offers and what is missing", _doctor)
    return parser


def _start(_: argparse.Namespace) -> int:
    from .display import ensure_display

    ensure_display()
    from .app.main import start

    return start(None)


def _open(args: argparse.Namespace) -> int:
    from .core.project.store import Store

    Store.open(args.project, write=False).close()  # a wrong path is told here, before any window
    from .display import ensure_display

    ensure_display()
    from .app.main import start

    return start(args.project)


def _demo(args: argparse.Namespace) -> int:
    from .demo import build

    place = build.default_place()
    if args.fresh or not (place / "catalogue.sqlite").is_file():
        print("Building the demo project (once) ...", file=sys.stderr)
        progress = _line_progress()
        build.build(place, progress)
        _end_line()
    from .display import ensure_display

    ensure_display()
    if args.shots:
        from .app.shots import take_shots

        return take_shots(place, args.shots)
    from .app.main import start

    return start(place)


def _new(args: argparse.Namespace) -> int:
    from .api import Project

    with Project.create(args.project, args.crs) as project:
        print(project.store.path)
    return 0


def _ops(args: argparse.Namespace) -> int:
    from .core.running.describe import describe
    from .core.running.table import OPERATIONS, find_operation

    if args.name:
        print(describe(find_operation(args.name)))
        return 0
    for op in OPERATIONS.values():
        print(f"{op.name:<24} {op.area:<11} {op.title}")
    return 0


def _apply(args: argparse.Namespace) -> int:
    from .api import Project
    from .core.running.execute import find_operation

    find_operation(args.operation)
    with Project.open(args.project) as project:
        made = project.run(args.operation, progress=_line_progress(), **_values(args.values))
        _end_line()
        for slot, item in made.items():
            entry = project.store.entry(item)
            print(f"{slot}: {entry.name} ({entry.id}) " + ", ".join(f"{k} {v}" for k, v in entry.facts.items()))
    return 0


def _bring(args: argparse.Namespace) -> int:
    from .api import Project
    from .core.formats import saved_mappings
    from .core.importing import intake, offers

    saved = saved_mappings.load()
    found = [o for path in offers.found_files(args.files) for o in offers.offers_of(path, saved)]
    for offer in found:
        print(f"{offer.label:<44} {offers.KINDS[offer.kind][0]:<28} {offer.why}")
    if args.look:
        return 0
    if args.day_order == "auto":
        for ref, texts in intake.ambiguous_dates([o for o in found if o.kind]).items():
            raise InputError(
                f"dates such as {texts[0]} could be day or month first",
                where=Path(ref).name,
                fix="Give --day-order 'day first' or 'month first'",
            )
    with Project.open(args.project) as project:
        ground = next((e.id for e in project.items if e.kind == "grid" and is_ground(e.attributes) and not e.dated), "")
        add_to = project.store.find(args.add_to).id if args.add_to else ""
        made: dict[str, str] = {}
        failed = 0
        picture = [o for o in found if o.kind == "picture" and o.needs_points]
        runs = intake.plan(
            [o for o in found if o not in picture],
            intake.Choices(day_order=args.day_order, coordinates=args.coordinates, add_to=add_to, ground=ground),
        )
        for offer in picture:
            print(
                f"{offer.label}: not brought in, since it names no place: use import-picture with points",
                file=sys.stderr,
            )
        for run in runs:
            try:
                outputs = project.run(
                    run.operation, progress=_line_progress(), **intake.resolved(run, made), **run.params
                )
            except LampError as error:
                _end_line()
                print(f"inner-lamp: {run.words}: {error}", file=sys.stderr)
                failed += 1
                continue
            _end_line()
            intake.remember(run, outputs, made)
            for item in outputs.values():
                entry = project.store.entry(item)
                print(
                    f"{entry.kind}: {entry.name} ({entry.id}) " + ", ".join(f"{k} {v}" for k, v in entry.facts.items())
                )
    return 2 if failed else 0


def _refresh(args: argparse.Namespace) -> int:
    from .api import Project

    with Project.open(args.project) as project:
        done = project.refresh(_line_progress())
        _end_line()
        names = [project.store.entry(i).name for i in done]
        for item, why in project.problems.items():
            print(f"inner-lamp: {project.store.entry(item).name} can't be made again: {why}", file=sys.stderr)
        if names or not project.problems:
            print("Refreshed: " + ", ".join(names) if names else "Nothing was stale.")
        return 2 if project.problems else 0


def _items(args: argparse.Namespace) -> int:
    from .api import Project
    from .core.project.trail import freshness

    with Project.open(args.project, write=False) as project:
        state = freshness(project.store)
        for e in project.items:
            facts = ", ".join(f"{k} {v}" for k, v in e.facts.items())
            print(f"{e.id}  {e.kind:<8} {state[e.id]:<7} {e.name}  [{facts}]")
    return 0


def _check(args: argparse.Namespace) -> int:
    from .api import Project
    from .core.project.trail import touched_by

    with Project.open(args.project, write=False) as project:
        found = project.store.damaged()
        for item, why in found.items():
            print(f"{project.store.entry(item).name}: {why}")
            if names := [project.store.entry(i).name for i in touched_by(project.store, item)]:
                print(f"    made from it: {', '.join(names)}")
        count = len(project.items)
        print(f"{len(found)} of {count} items are damaged." if found else f"All {count} items are whole.")
    return 2 if found else 0


def _compare(args: argparse.Namespace) -> int:
    from .api import Project
    from .core.comparing.differences import difference

    with Project.open(args.project, write=False) as project:
        entry = project.store.find(args.item)
        if args.other:
            old = project[args.other]
        else:
            before = [v for v, _ in project.store.versions(entry.id) if v < entry.version]
            if not before:
                raise InputError("there is no earlier version to compare with", where=entry.name)
            old = project.store.load(entry.id, before[-1])
        for change in difference(old, project.store.load(entry.id)):
            arrow = f"{change.before} → {change.after}" if change.before else change.after
            place = f"  at E {change.place[0]:.0f} N {change.place[1]:.0f}" if change.place else ""
            print(f"{change.what:<34} {arrow}{place}")
    return 0


def _export(args: argparse.Namespace) -> int:
    from .api import Project

    with Project.open(args.project, write=False) as project:
        names = [e.id for e in project.items if not e.dated] if args.item == ["all"] else args.item
        paths = (
            project.export(names[0], args.file, args.dpi)
            if len(names) == 1
            else project.export_together(names, args.file)
        )
        for path in paths:
            print(path)
    return 0


def _doctor(_: argparse.Namespace) -> int:
    from .doctor import examine

    facts, advice = examine()
    for label, text in facts:
        print(f"{label:<20} {text}")
    for line in advice or ["Everything that Inner Lamp needs is here."]:
        print("* " + line)
    return 0


def _values(pairs: Sequence[str]) -> dict[str, Any]:
    values: dict[str, Any] = {}
    for pair in pairs:
        name, sign, text = pair.partition("=")
        if not sign or not name:
            raise InputError(f"'{pair}' is not of the form name=value", fix="Write for example cell=25")
        try:
            values[name] = json.loads(text) if text.startswith(("{", "[")) else text
        except ValueError as error:
            raise InputError(f"'{name}' is not valid JSON ({error})") from error
    return values


def _line_progress() -> Progress:
    width = [0]

    def report(fraction: float, message: str, measures: Mapping[str, float]) -> None:
        text = f"{fraction:4.0%} {message}" + "".join(f"  {k} {v:.4g}" for k, v in measures.items())
        if sys.stderr.isatty():
            print("\r" + text.ljust(width[0]), end="", file=sys.stderr, flush=True)
            width[0] = len(text)
        elif measures or fraction in (0.0, 1.0):
            print(text, file=sys.stderr)

    return CallbackProgress(report)


def _end_line() -> None:
    if sys.stderr.isatty():
        print(file=sys.stderr)

"""The command line. Everything that can go wrong ends in one line on stderr and exit code 2."""

from __future__ import annotations

import argparse
import json
import re
import shutil
import sys
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn, get_args

from . import __version__
from .core.errors import InputError, LampError
from .core.progress import CallbackProgress, Progress
from .terminal import shown_plainly, told_of_fault

if TYPE_CHECKING:
    from .api import Project
    from .core.importing import intake


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        raise InputError(message, fix=f"See '{self.prog} --help'")


def main(argv: Sequence[str] | None = None) -> int:
    """Run the command line; returns the exit code."""
    with shown_plainly():
        return _main(argv)


def _main(argv: Sequence[str] | None) -> int:
    try:
        args = _parser().parse_args(argv)
        result: int = args.run(args)
        return result
    except LampError as error:
        print(f"inner-lamp: {error}", file=sys.stderr)
        return 2
    except MemoryError:
        print("inner-lamp: there is not enough memory for that. Take less at once.", file=sys.stderr)
        return 2
    except BrokenPipeError:
        return 0
    except KeyboardInterrupt:
        print("inner-lamp: stopped.", file=sys.stderr)
        return 130
    except Exception as error:  # a fault of the program's own: said in a sentence, kept in full for who mends it
        print(f"inner-lamp: {told_of_fault(error)}", file=sys.stderr)
        return 3


def _parser() -> argparse.ArgumentParser:
    from .core.importing.choices import AboveRule, DetectionRule, Dips, NegativeRule

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

    sub = command("open", "open a project in the window, and bring files in", _open)
    sub.add_argument("path", nargs="*", type=Path, help="a project, files or folders to bring in, or both")
    sub = command("desktop", "put a menu entry, icon and file association into your own folders", _desktop)
    sub.add_argument("--remove", action="store_true", help="take them out again")
    sub = command("demo", "open the made-up prospect Emberlow", _demo)
    sub.add_argument("--shots", type=Path, metavar="DIR", help="write one picture of each main view under DIR and end")
    sub.add_argument("--fresh", action="store_true", help="build the demo project anew first")
    sub.add_argument("--files", type=Path, metavar="DIR", help="copy the raw files of the tutorial under DIR and end")
    sub = command("new", "make an empty project", _new)
    sub.add_argument("project", type=Path)
    sub.add_argument("crs", help="projected coordinate system in metres, such as EPSG:32629")
    sub = command(
        "systems", "find coordinate systems: by zone, name, place or code, or those that files speak for", _systems
    )
    sub.add_argument("words", nargs="+", help="words, or files and folders")
    sub = command("ops", "list the operations, or describe one", _ops)
    sub.add_argument("name", nargs="?")
    sub = command("apply", "run one operation on a project, with no window", _apply)
    sub.add_argument("project", type=Path)
    sub.add_argument("operation")
    sub.add_argument("values", nargs="*", metavar="name=value", help="inputs (item names or ids) and parameters")
    sub = command("change", "make an item anew with some inputs or parameters of its run changed", _change)
    sub.add_argument("project", type=Path)
    sub.add_argument("item", help="name or id")
    sub.add_argument("values", nargs="+", metavar="name=value", help="inputs (item names or ids) and parameters")
    sub = command("bring", "bring files or folders into a project: each is told by its content", _bring)
    sub.add_argument("project", type=Path)
    sub.add_argument("files", nargs="+", type=Path)
    sub.add_argument("--look", action="store_true", help="only say what the files seem to be")
    sub.add_argument(
        "--as",
        dest="kinds",
        action="append",
        default=[],
        metavar="FILE=KIND",
        help="what a file (or file#sheet) is where it is taken for something else, such as holes.csv=collar: collar, survey,"
        " assay, lithology, interval, reading, controls, samples, stations, structures, lines, resistivity, electrodes, ground,"
        " grid, features, surface, blocks, picture; none leaves it out",
    )
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
    sub.add_argument(
        "--dips",
        choices=get_args(Dips),
        default="auto",
        help="how dips are measured, where heading and numbers leave doubt",
    )
    sub.add_argument("--below", choices=get_args(DetectionRule), default="half of limit", help="what <0.5 becomes")
    sub.add_argument(
        "--above", choices=get_args(AboveRule), default="another column or limit", help="what >10000 becomes"
    )
    sub.add_argument("--negatives", choices=get_args(NegativeRule), default="auto", help="what negative grades say")
    sub.add_argument(
        "--methods", default="", metavar="LIST", help="methods of analysis, best first, parted by semicolons"
    )
    sub = command("findings", "print what imports found, by kind, the gravest first, or write it as CSV", _findings)
    sub.add_argument("project", type=Path)
    sub.add_argument("item", nargs="?", help="name or id; all items when left out")
    sub.add_argument("--out", type=Path, metavar="FILE", help="write every finding with its row to this CSV file")
    sub = command("refresh", "make the stale items of a project again", _refresh)
    sub.add_argument("project", type=Path)
    sub.add_argument("item", nargs="*", help="only these and what they are made from; all when left out")
    sub = command("check", "say what of a project is damaged, and what that touches", _check)
    sub.add_argument("project", type=Path)
    sub.add_argument(
        "--mend",
        action="store_true",
        help="make damaged items again from what they were made from, where that is whole",
    )
    sub = command("items", "list the items of a project", _items)
    sub.add_argument("project", type=Path)
    sub = command("compare", "say what changed from one item to another, or from the version before", _compare)
    sub.add_argument("project", type=Path)
    sub.add_argument("item")
    sub.add_argument(
        "other", nargs="?", help="what it changed into; when left out, the item is compared with its version before"
    )
    sub = command("export", "write an item to a file, or several into one .omf file", _export)
    sub.add_argument("project", type=Path)
    sub.add_argument("item", nargs="+", help="name or id of an item; 'all' for every item (with a file ending in .omf)")
    sub.add_argument("file", type=Path)
    sub.add_argument("--dpi", type=float, default=300.0, help="dots per inch of a page that is written as a picture")
    sub.add_argument(
        "--guard", action="store_true", help="put an apostrophe before texts of a CSV that look like formulas"
    )
    command("doctor", "say what this machine offers and what is missing", _doctor)
    return parser


def _start(_: argparse.Namespace) -> int:
    from .display import ensure_display

    ensure_display()
    from .app.start.main import start

    return start(None)


def _open(args: argparse.Namespace) -> int:
    from .core.project.store import Store

    projects = [p for p in args.path if p.suffix == ".lamp" or (p / "catalogue.sqlite").is_file()]
    files = [p for p in args.path if p not in projects]
    if len(projects) > 1:
        raise InputError("one project is opened at a time", fix="Name one, and files to bring in after it")
    if projects:
        Store.open(projects[0], write=False).close()  # a wrong path is told here, before any window
    for path in files:
        if not path.exists():
            raise InputError("there is no such file or folder", where=str(path), fix="Check the path")
    from .display import ensure_display

    ensure_display()
    from .app.start.main import start

    return start(projects[0] if projects else None, files=files)


def _desktop(args: argparse.Namespace) -> int:
    from . import desktop

    done = desktop.remove() if args.remove else desktop.install()
    for path in done:
        print(f"{'removed' if args.remove else 'written'}: {path}")
    if not done:
        print("There was nothing to remove.")
    return 0


def _demo(args: argparse.Namespace) -> int:
    from .demo import build

    place = build.default_place()
    if args.files:
        print(build.raw_files(args.files))
        return 0
    if args.fresh:
        shutil.rmtree(place, ignore_errors=True)
    from .display import ensure_display

    if args.shots:
        build.ensure(_line_progress())
        _end_line()
        ensure_display()
        from .app.start.shots import take_shots

        return take_shots(place, args.shots)
    ensure_display()
    from .app.start.main import start

    return start(None, demo=True)


def _new(args: argparse.Namespace) -> int:
    from .api import Project

    with Project.create(args.project, args.crs) as project:
        print(project.store.path)
    return 0


def _systems(args: argparse.Namespace) -> int:
    from .core.given_paths import given_path
    from .core.importing.systems_proposed import proposed_systems
    from .core.systems_by_name import systems_named

    files = [word for word in args.words if given_path(word).exists()]
    if files:
        rows = [p.words for p in proposed_systems(args.words)]
    else:
        rows = [f.words for f in systems_named(" ".join(args.words))]
    print(
        "\n".join(rows) or ("These files name no place." if files else "No projected system in metres has that name.")
    )
    return 0 if rows else 1


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
        _say_made(project, project.run_with(args.operation, _values(args.values), _line_progress()))
    return 0


def _say_made(project: Project, made: Mapping[str, str]) -> None:
    _end_line()
    for slot, item in made.items():
        entry = project.store.entry(item)
        print(f"{slot}: {entry.name} ({entry.id}) " + ", ".join(f"{k} {v}" for k, v in entry.facts.items()))


def _change(args: argparse.Namespace) -> int:
    from .api import Project

    with Project.open(args.project) as project:
        _say_made(project, project.change_with(args.item, _values(args.values), _line_progress()))
    return 0


def _bring(args: argparse.Namespace) -> int:
    from .api import Project
    from .core.importing import intake, offers
    from .core.importing.detection import CellRules

    found = offers.said_otherwise(Project.looked_at(args.files, _line_progress()), args.kinds)
    _end_line()
    for offer in found:
        print(f"{offer.label:<44} {offers.KINDS[offer.kind][0]:<28} {offer.why}")
    if args.look:
        return 0
    methods = tuple(m.strip() for m in args.methods.split(";") if m.strip())
    cells = CellRules(args.below, args.above, negatives=args.negatives, methods=methods)
    failed = 0
    with Project.open(args.project) as project:

        def told(run: intake.Run, result: Mapping[str, str] | LampError) -> None:
            nonlocal failed
            _end_line()
            if isinstance(result, LampError):
                failed += 1
                print(
                    f"inner-lamp: {run.words}: {result}" if run.operation else f"inner-lamp: {result}", file=sys.stderr
                )
                return
            for item in result.values():
                entry = project.store.entry(item)
                facts = ", ".join(f"{k} {v}" for k, v in entry.facts.items())
                print(f"{entry.kind}: {entry.name} ({entry.id}) {facts}")

        for offer in found:
            if offer.kind == "picture" and offer.needs_points:
                words = "not brought in, since it names no place: use import-picture with points"
                print(f"{offer.label}: {words}", file=sys.stderr)
        choices = intake.Choices(
            cells=cells,
            day_order=args.day_order,
            dips=args.dips,
            coordinates=args.coordinates,
            add_to=project.store.find(args.add_to).id if args.add_to else "",
        )
        made = project.bring(found, choices, _line_progress(), told)
        if any("Findings" in project.store.entry(i).facts for i in made):
            print(f"What was mended, left out or is to be looked at: inner-lamp findings {args.project}")
        if not made and not failed:
            print("inner-lamp: nothing was brought in.", file=sys.stderr)
    return 2 if failed or not made else 0


def _findings(args: argparse.Namespace) -> int:
    import pandas as pd

    from .api import Project
    from .core.findings import by_kind
    from .core.formats.out.tables_out import write_csv

    with Project.open(args.project, write=False) as project:
        entries = [project.store.find(args.item)] if args.item else [e for e in project.items if not e.dated]
        parts = []
        for entry in entries:
            table = getattr(project.store.load(entry.id), "findings", None)
            if table is None or not len(table):
                if args.item:
                    print(f"{entry.name} has no findings.")
                continue
            parts.append(table.assign(item=entry.name))
            if args.out is not None:
                continue
            print(f"{entry.name}: {len(table):,} findings")
            for row in by_kind(table).itertuples():
                places = (str(row.file), f"lines {row.lines!s}" if row.lines else "", str(row.holes))
                where = ", ".join(w for w in places if w)
                print(
                    f"  {row.severity:<9} {row.count:>7,}  {row.what} → {row.done}" + (f"  ({where})" if where else "")
                )
        if args.out is not None:
            if not parts:
                raise InputError("there are no findings to write")
            whole = pd.concat(parts, ignore_index=True)
            try:
                write_csv(whole[["item", *(c for c in whole.columns if c != "item")]], args.out)
            except OSError as error:
                raise InputError(f"can't write the file ({error.strerror})", where=str(args.out)) from error
            print(f"{len(whole):,} findings written to {args.out}")
        elif not parts and not args.item:
            print("There are no findings.")
    return 0


def _refresh(args: argparse.Namespace) -> int:
    from .api import Project

    with Project.open(args.project) as project:
        done = project.refresh(_line_progress(), args.item)
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
        for why in project.store.damaged_rows().values():
            print(f"Not listed: {why}", file=sys.stderr)
    return 0


def _check(args: argparse.Namespace) -> int:
    from .api import Project
    from .core.project.trail import touched_by

    with Project.open(args.project, write=args.mend) as project:
        rows, found = project.store.damaged_rows(), project.store.damaged()
        for item, why in found.items():
            if item in rows:
                print(why)
                continue
            print(f"{project.store.entry(item).name}: {why}")
            if names := [project.store.entry(i).name for i in touched_by(project.store, item)]:
                print(f"    made from it: {', '.join(names)}")
        if args.mend and found:
            left = project.mend(_line_progress())
            _end_line()
            for item in (i for i in found if i not in rows):
                name = project.store.entry(item).name
                print(f"{name}: stays damaged: {left[item]}" if item in left else f"{name}: made again")
            found = left
        count = len(project.items) + len(rows)
        print(f"{len(found)} of {count} items are damaged." if found else f"All {count} items are whole.")
    return 2 if found else 0


def _compare(args: argparse.Namespace) -> int:
    from .api import Project
    from .core.comparing.differences import difference

    with Project.open(args.project, write=False) as project:
        entry = project.store.find(args.item)
        if args.other:
            old, new = project.store.load(entry.id), project[args.other]
        else:
            before = [v for v, _ in project.store.versions(entry.id) if v < entry.version]
            if not before:
                raise InputError("there is no earlier version to compare with", where=entry.name)
            old, new = project.store.load(entry.id, before[-1]), project.store.load(entry.id)
        for change in difference(old, new):
            arrow = f"{change.before} → {change.after}" if change.before else change.after
            place = f"  at E {change.place[0]:.0f} N {change.place[1]:.0f}" if change.place else ""
            print(f"{change.what:<34} {arrow}{place}")
    return 0


def _export(args: argparse.Namespace) -> int:
    from .api import Project

    with Project.open(args.project, write=False) as project:
        names = [e.id for e in project.items if not e.dated] if args.item == ["all"] else args.item
        paths = (
            project.export(names[0], args.file, args.dpi, args.guard)
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


# An expression that begins with the name of a column, such as [Sn ppm] * 2, and no list.
_COLUMN_FIRST = re.compile(r"""\[[^\[\]"{}]*[^\W\d][^\[\]"{}]*\]""")


def _values(pairs: Sequence[str]) -> dict[str, Any]:
    values: dict[str, Any] = {}
    for pair in pairs:
        name, sign, text = pair.partition("=")
        if not sign or not name:
            raise InputError(f"'{pair}' is not of the form name=value", fix="Write for example cell=25")
        if name in values:
            raise InputError(f"'{name}' is given twice", fix="Leave one of them out")
        try:
            values[name] = json.loads(text) if text.startswith(("{", "[")) else text
        except (ValueError, RecursionError) as error:
            if isinstance(error, ValueError) and _COLUMN_FIRST.match(text):
                values[name] = text
                continue
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

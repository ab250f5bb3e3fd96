"""Texts from outside on a terminal and in messages: control characters are shown, messages stay one line of bounded length."""

from __future__ import annotations

import io
import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from innerlamp import cli, terminal
from innerlamp.core.errors import InputError, ProjectError
from innerlamp.core.project.store import Store
from innerlamp.core.shown import MOST_NAME, clipped, one_line, plain_name, visible


def test_control_characters_are_shown_and_not_obeyed() -> None:
    assert visible("red \x1b[31m bell\a back\b") == "red \\x1b[31m bell\\x07 back\\x08"
    assert visible("a\nb\tc", keep="\n\t") == "a\nb\tc"
    assert visible("abc\u202egpj.exe") == "abc\\u202egpj.exe"
    assert one_line("two\r\nlines\tand\x00") == "two lines and\\x00"
    assert plain_name("  a\nname\x1b[0m ") == "a name [0m"
    assert len(plain_name("x" * 999)) == MOST_NAME
    assert clipped("abcdef", 4) == "abc…"


@given(st.text(max_size=2000), st.text(max_size=2000), st.text(max_size=2000))
def test_a_message_is_one_line_under_300_letters(what: str, where: str, fix: str) -> None:
    words = str(InputError(what, where, fix))
    assert len(words) < 300
    assert words == visible(words)


def test_the_end_of_a_long_path_stays() -> None:
    said = str(ProjectError("a part is missing", where="/far" * 200 + "/payloads/ab/ab12.npy"))
    assert said.startswith("…") and "/payloads/ab/ab12.npy: a part is missing." in said


def test_the_command_line_prints_names_with_escapes_as_they_are(
    tmp_path: object, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    assert cli.main(["items", f"{tmp_path}/\x1b]0;owned\x07.lamp"]) == 2
    said = capsys.readouterr().err
    assert "\x1b" not in said and "\\x1b]0;owned\\x07" in said
    with (
        Store.create(f"{tmp_path}/a.lamp", "EPSG:32719") as store,
        pytest.raises(ProjectError, match="needs a name"),
    ):
        _rename(store)
    # A fault of the program's own is one sentence, and kept in full.
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    monkeypatch.setattr(cli, "_parser", lambda: 1 / 0)
    assert cli.main(["items", "x"]) == 3
    said = capsys.readouterr().err
    assert said.count("\n") == 1 and "ZeroDivisionError" in said and "Traceback" not in said
    (log,) = (tmp_path / "inner-lamp" / "logs").glob("fault-*.log")  # type: ignore[operator]
    assert "ZeroDivisionError" in log.read_text(encoding="utf-8")


def _rename(store: Store) -> None:
    from .test_hostile_projects import points

    item = store.put(points())
    store.rename(item, "Stakes\x1b[2J of\nthe line")
    assert store.entry(item).name == "Stakes [2J of the line"
    store.rename(item, "\x00\n")


def test_progress_may_go_back_to_the_start_of_its_line() -> None:
    real, sink = sys.stdout, io.StringIO()
    sys.stdout = sink
    try:
        with terminal.shown_plainly():
            print("\r50 %", end="")
            print("name\rwith a return")
    finally:
        sys.stdout = real
    assert sink.getvalue() == "\r50 %name\\x0dwith a return\n"

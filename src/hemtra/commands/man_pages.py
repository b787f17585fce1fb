"""Manual pages of the command line (man-pages(7), roff), made from the commands themselves."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from importlib import metadata
from pathlib import Path
from typing import Any

EXIT_CODES = (
    ("0", "Every part passes; or what was asked for was done."),
    ("1", "A part fails, is not measured or not proven; or what was checked does not hold."),
    ("2", "An error, said in one sentence on standard error."),
    ("70", "A fault of the program, with a log to report."),
    ("130", "Interrupted by Ctrl+C."),
)
FILES = (
    ("~/.config/hemtra, ~/.local/share/hemtra, ~/.local/state/hemtra", "Settings; records and demo; log."),
    ("*.hplan, *.hstation, *.x3p", "Plans, stations, and scans (ISO 25178-72)."),
)


def man_pages(root: Any) -> dict[str, str]:
    """All pages by file name, “hemtra.1” first, then one for each command.

    root: the command line as `typer.main.get_command` gives it. Its classes are those of click or of a
    copy of it within Typer, so nothing here names them.
    """
    return {f"{'-'.join(names)}.1": _page(names, command) for names, command in _commands(("hemtra",), root)}


def write_man_pages(root: Any, folder: Path) -> list[Path]:
    """Write them into a folder, which is made."""
    folder.mkdir(parents=True, exist_ok=True)
    written = []
    for name, text in man_pages(root).items():
        path = folder / name
        path.write_text(text, encoding="utf-8")
        written.append(path)
    return written


def _commands(names: tuple[str, ...], command: Any) -> Iterator[tuple[tuple[str, ...], Any]]:
    yield names, command
    for name, inner in sorted(getattr(command, "commands", {}).items()):
        if not inner.hidden:
            yield from _commands((*names, name), inner)


def _page(names: tuple[str, ...], command: Any) -> str:
    context = command.make_context(" ".join(names), [], resilient_parsing=True)
    summary, _, more = (command.help or "").strip().partition("\n\n")
    inner = {n: c for n, c in sorted(getattr(command, "commands", {}).items()) if not c.hidden}
    title = "-".join(names).upper()
    today = datetime.date.today().strftime("%Y-%m-%d")
    lines = [f'.TH "{title}" "1" "{today}" "hemtra {metadata.version("hemtra")}" "User Commands"']
    lines += [".SH NAME", f"{'-'.join(names)} \\- {_roff(' '.join(summary.split()).rstrip('.'))}"]
    pieces = " ".join(command.collect_usage_pieces(context))
    lines += [".SH SYNOPSIS", f".B {' '.join(names)}", _roff(pieces)]
    if more:
        lines += [".SH DESCRIPTION", _roff(" ".join(more.split()))]
    for heading, kind in (("ARGUMENTS", "argument"), ("OPTIONS", "option")):
        found = [p for p in command.params if p.param_type_name == kind and not getattr(p, "hidden", False)]
        records = [record for p in found if (record := _record(p, context))]
        if records:
            lines.append(f".SH {heading}")
        for form, text in records:
            lines += [".TP", f".B {_roff(form)}", _roff(text)]
    if inner:
        lines.append(".SH COMMANDS")
        for name, one in inner.items():
            words = _roff(" ".join((one.help or "").partition("\n\n")[0].split()))
            lines += [".TP", f".BR {'-'.join((*names, name))} (1)", words]
    lines.append(".SH EXIT STATUS")
    for code, text in EXIT_CODES:
        lines += [".TP", f".B {code}", _roff(text)]
    lines.append(".SH FILES")
    for place, text in FILES:
        lines += [".TP", f".I {_roff(place)}", _roff(text)]
    if len(names) > 1:
        lines += [".SH SEE ALSO", f".BR {'-'.join(names[:-1])} (1)"]
    return "\n".join(lines) + "\n"


def _record(param: Any, context: Any) -> tuple[str, str] | None:
    """Format a parameter and its help text."""
    if param.param_type_name == "argument":
        return str(param.name).upper().replace("_", "-"), str(getattr(param, "help", "") or "")
    found = param.get_help_record(context)
    return None if found is None else (found[0], found[1])


def _roff(text: str) -> str:
    """A text in which nothing is taken for a request or an escape."""
    text = text.replace("\\", "\\\\").replace("-", "\\-")
    return f"\\&{text}" if text.startswith((".", "'")) else text

"""Mutants: small mistakes put into the code, each of which some test should notice.

    .venv/bin/python tools/mutants.py [COUNT] [SEED]

Prints the survivors and the share that was killed; ends with 1 where that is less than asked. Which tests run
through which line is found out first, with the coverage library; a mutant then meets the fastest of those.
"""

from __future__ import annotations

import ast
import hashlib
import json
import multiprocessing
import os
import shutil
import subprocess
import sys
import tempfile
import xml.etree.ElementTree as ET
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import SimpleQueue

ROOT = Path(__file__).parents[1]
PLACES = ("core/plan", "runtime", "outputs", "storage/records")
"""Folders of the package that mutants are made in."""
TESTS = (
    "tests/core",
    "tests/outputs",
    "tests/runtime",
    "tests/storage",
    "tests/test_drafts.py",
    "tests/test_from_python.py",
)
"""Folders and files of the tests that mutants meet; those of the window take too long."""
LEFT_OUT = ("migrations", "__init__", "demo")
ASKED = 0.85
PROCESSES = 2
FIRST_TIME, MOST_TIME = 8.0, 60.0
"""s of tests that a mutant meets first, the fastest of them, and at most if it survives these."""
ANY = 0
"""Stands for lines that no test was seen to run, as those of another process: tests near by meet them."""
PATIENCE = 180.0
"""s after which a mutant counts as killed, since it hangs."""
COMPARISONS: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
}
ARITHMETIC: dict[type[ast.operator], type[ast.operator]] = {
    ast.Add: ast.Sub,
    ast.Sub: ast.Add,
    ast.Mult: ast.Div,
    ast.Div: ast.Mult,
    ast.FloorDiv: ast.Mult,
    ast.Mod: ast.Mult,
}


@dataclass(frozen=True)
class Mutant:
    """One change: in a file, at a line and column; how: what was done there."""

    file: str
    line: int
    column: int
    end: tuple[int, int]
    how: str
    text: str

    def __str__(self) -> str:
        return f"{self.file}:{self.line}: {self.how}: {self.text}"


def changed(node: ast.AST) -> Iterator[tuple[str, str]]:
    """What may be put in the place of a node, as (how, text)."""
    match node:
        case ast.Compare(ops=[op], left=left, comparators=[right]):
            other = ast.Compare(left, [COMPARISONS[type(op)]()], [right])
            yield "comparison", ast.unparse(other)
        case ast.BoolOp(op=op, values=values):
            other = ast.BoolOp(ast.Or() if isinstance(op, ast.And) else ast.And(), values)
            yield "and/or", f"({ast.unparse(other)})"
        case ast.BinOp(op=op, left=left, right=right) if type(op) in ARITHMETIC and not _is_text(node):
            yield "arithmetic", f"({ast.unparse(ast.BinOp(left, ARITHMETIC[type(op)](), right))})"
        case ast.UnaryOp(op=ast.Not(), operand=operand):
            yield "not", f"({ast.unparse(operand)})"
        case ast.Constant(value=bool(value)):
            yield "constant", str(not value)
        case ast.Constant(value=int(value)):
            yield "constant", str(value + 1)
        case ast.Constant(value=float(value)):
            yield "constant", repr(value * 1.5 + (value == 0.0))
        case ast.IfExp(test=test, body=body, orelse=orelse):
            yield "condition", f"({ast.unparse(ast.IfExp(test, orelse, body))})"
        case ast.Return(value=value) if value is not None and not _is_none(value):
            yield "return", "return None"
        case ast.Expr(value=ast.Call()):
            yield "left out", "pass"


def _is_text(node: ast.BinOp) -> bool:
    sides = (node.left, node.right)
    return any(
        isinstance(n, ast.JoinedStr) or (isinstance(n, ast.Constant) and isinstance(n.value, str))
        for n in sides
    )


def _is_none(node: ast.AST) -> bool:
    return isinstance(node, ast.Constant) and node.value is None


def sample(count: int, seed: int) -> list[Mutant]:
    """As many, spread evenly; code that changes elsewhere leaves them the same."""
    seen: Counter[str] = Counter()
    ranked = []
    for mutant in mutants():
        what = f"{seed} {mutant.file} {mutant.how} {mutant.text}"
        seen[what] += 1
        rank = hashlib.sha256(f"{what} {seen[what]}".encode()).digest()
        ranked.append((rank, mutant))
    return [mutant for _, mutant in sorted(ranked, key=lambda one: one[0])[:count]]


def mutants() -> list[Mutant]:
    """All there are, in the order of the code."""
    found = []
    for place in PLACES:
        for path in sorted((ROOT / "src/hemtra" / place).rglob("*.py")):
            if not any(part in str(path) for part in LEFT_OUT):
                found += list(_mutants_in(path))
    return found


def _mutants_in(path: Path) -> Iterator[Mutant]:
    tree = ast.parse(path.read_text())
    for node in _code(tree):
        for how, text in changed(node):
            end = node.end_lineno, node.end_col_offset
            yield Mutant(str(path.relative_to(ROOT)), node.lineno, node.col_offset, end, how, text)


def _code(node: ast.AST) -> Iterator[ast.AST]:
    """The nodes within, without annotations, decorators, formats and what only names something."""
    for name, value in ast.iter_fields(node):
        if name in ("annotation", "returns", "decorator_list", "format_spec", "type_comment"):
            continue
        for child in value if isinstance(value, list) else [value]:
            if isinstance(child, ast.AST):
                if hasattr(child, "lineno"):
                    yield child
                yield from _code(child)


def mutated(source: str, mutant: Mutant) -> str:
    """The source of a file with the change in it."""
    lines = source.splitlines(keepends=True)
    starts = [0]
    for line in lines:
        starts.append(starts[-1] + len(line.encode()))
    raw = source.encode()
    first = starts[mutant.line - 1] + mutant.column
    last = starts[mutant.end[0] - 1] + mutant.end[1]
    return (raw[:first] + mutant.text.encode() + raw[last:]).decode()


def reached(folder: Path) -> tuple[dict[str, dict[int, list[str]]], dict[str, float]]:
    """By file and line, the tests that run through it, the fastest first; and how long each takes, s."""
    from coverage import CoverageData

    settings = folder / "coveragerc"
    settings.write_text(
        f"[run]\nparallel = true\ndynamic_context = test_function\nsource = {ROOT}/src/hemtra\n"
        f"data_file = {folder}/data\n"
    )
    pytest = [sys.executable, "-m", "coverage", "run", f"--rcfile={settings}", "-m", "pytest", "-q"]
    halves = [TESTS[:1], TESTS[1:]]
    running = [
        subprocess.Popen(
            [*pytest, "-o", "addopts=-m 'not soak' --benchmark-skip", f"--junitxml={folder}/{k}.xml", *half],
            cwd=ROOT,
            stdout=subprocess.DEVNULL,
        )
        for k, half in enumerate(halves)
    ]
    for one in running:
        one.wait()
    took: dict[str, float] = {}
    for k in range(len(halves)):
        for case in ET.parse(folder / f"{k}.xml").iter("testcase"):
            name = f"{case.get('classname')}.{str(case.get('name')).partition('[')[0]}"
            took[name] = took.get(name, 0.0) + float(case.get("time") or 0.0)
    found: dict[str, dict[int, list[str]]] = {}
    for data_file in folder.glob("data.*"):
        data = CoverageData(str(data_file))
        data.read()
        for file in data.measured_files():
            lines = found.setdefault(str(Path(file).relative_to(ROOT)), {})
            for line, contexts in data.contexts_by_lineno(file).items():
                lines.setdefault(line, []).extend(c for c in contexts if c)
    named = _known(took)
    for lines in found.values():
        by_line = {line: {t for t in map(named, tests) if t} for line, tests in lines.items()}
        anywhere = set().union(*by_line.values())
        for line, tests in by_line.items():
            # what runs on import, or on another thread than the test's, is noticed by those of its file
            lines[line] = _within(MOST_TIME, sorted(tests or anywhere, key=lambda t: took[t]), took)
    for path in sorted({mutant.file for mutant in mutants()}):
        near = sorted(_of_those_that_import(path, took), key=lambda t: took[t])
        found.setdefault(path, {})[ANY] = _within(MOST_TIME, near, took)
    return found, took


def _of_those_that_import(path: str, took: Mapping[str, float]) -> list[str]:
    """Tests in files that import a module, or else something of its package."""
    module = path.removeprefix("src/").removesuffix(".py").replace("/", ".")
    places = (ROOT / part for part in TESTS)
    files = (file for place in places for file in ([place] if place.is_file() else place.rglob("test_*.py")))
    texts = {file: file.read_text() for file in files}
    for name in (module, module.rpartition(".")[0]):
        with_it = {file.relative_to(ROOT).with_suffix("") for file, text in texts.items() if name in text}
        names = {str(file).replace("/", ".") for file in with_it}
        found = [test for test in took if test.rpartition(".")[0] in names]
        if found:
            return found
    return []


def _within(time: float, tests: list[str], took: Mapping[str, float]) -> list[str]:
    """The first of some tests that fit into a time together; one in any case."""
    end = 1
    while end < len(tests) and sum(took[t] for t in tests[: end + 1]) <= time:
        end += 1
    return tests[:end]


def _known(took: dict[str, float]) -> Callable[[str], str]:
    """Contexts name tests by their module, and property tests by their name alone; reports by their path."""
    by_tail = {".".join(name.split(".")[-2:]): name for name in took}
    by_name: dict[str, str] = {}
    for name in took:
        by_name[name.rpartition(".")[2]] = "" if name.rpartition(".")[2] in by_name else name

    def known(context: str) -> str:
        return by_tail.get(".".join(context.split(".")[-2:])) or by_name.get(context.rpartition(".")[2], "")

    return known


def _node(test: str) -> str:
    *path, name = test.split(".")
    return f"{'/'.join(path)}.py::{name}"


def _meets(overlay: Path, tests: list[str], *more: str) -> None:
    """In a process of its own: run tests on the code of an overlay; ends with 0 where all pass."""
    os.chdir(overlay)
    sys.path[:0] = [str(overlay / "src"), str(overlay / "tests")]
    os.environ["PYTHONPATH"] = str(overlay / "src")
    quiet = os.open(os.devnull, os.O_WRONLY)
    os.dup2(quiet, 1)
    os.dup2(quiet, 2)
    import pytest

    quietly = ["-q", "-o", "addopts=", "-p", "no:cacheprovider", *(more or ["-x"])]
    os._exit(int(pytest.main([*quietly, *map(_node, tests)])))


def sound(tests: set[str], overlay: Path, report: Path) -> set[str]:
    """Those that pass on the code as it is, run as a mutant meets them; others could kill anything."""
    process = multiprocessing.get_context("fork").Process(
        target=_meets, args=(overlay, sorted(tests), f"--junitxml={report}")
    )
    process.start()
    process.join()
    passed, failed = set(), set()
    for case in ET.parse(report).iter("testcase"):
        name = f"{case.get('classname')}.{str(case.get('name')).partition('[')[0]}"
        (failed if len(case) else passed).add(name)
    return passed - failed


def survives(mutant: Mutant, tests: list[str], overlay: Path) -> bool:
    """Whether no test notices."""
    if not tests:
        return True
    path = overlay / mutant.file
    source, kept = path.read_text(), path.stat()
    path.write_text(mutated(source, mutant))
    process = multiprocessing.get_context("fork").Process(target=_meets, args=(overlay, tests))
    process.start()
    process.join(PATIENCE)
    alive = process.is_alive()
    if alive:
        process.kill()
        process.join()
    path.write_text(source)
    os.utime(path, ns=(kept.st_atime_ns, kept.st_mtime_ns))
    return not alive and process.exitcode == 0


def main(count: int, seed: int) -> int:
    """Make, try and tell."""
    chosen = sample(count, seed)
    with tempfile.TemporaryDirectory() as folder:
        where = Path(folder)
        os.environ["HEMTRA_DEMO"] = str(where / "demo")
        # by another process: none of our own modules may be loaded in this one
        subprocess.run([sys.executable, "-m", "hemtra", "demo", "--write", where / "demo"], check=True)
        known, took = reached(where)
        # loaded once for all of them; nothing of our own may be, nor what pytest rewrites
        for name in ("numpy", "scipy", "numba", "sqlalchemy", "pydantic", "pymodbus.client"):
            __import__(name)
        overlays: SimpleQueue[Path] = SimpleQueue()
        for k in range(PROCESSES):
            overlay = where / f"overlay-{k}"
            for part in ("src", "tests"):
                shutil.copytree(ROOT / part, overlay / part, symlinks=True)
            for file in ("pyproject.toml", "README.md", "Makefile"):
                shutil.copy2(ROOT / file, overlay)
            shutil.copytree(ROOT / "docs", overlay / "docs")
            shutil.copytree(ROOT / "tools", overlay / "tools")
            overlays.put(overlay)

        meets = {m: known[m.file].get(m.line) or known[m.file][ANY] for m in chosen}
        good = sound({test for tests in meets.values() for test in tests}, overlay, where / "sound.xml")

        def tried(mutant: Mutant) -> bool:
            overlay, tests = overlays.get(), [test for test in meets[mutant] if test in good]
            first = _within(FIRST_TIME, tests, took) if tests else tests
            try:
                return survives(mutant, first, overlay) and (
                    len(first) == len(tests) or survives(mutant, tests[len(first) :], overlay)
                )
            finally:
                overlays.put(overlay)

        alive = []
        with ThreadPoolExecutor(PROCESSES) as pool:
            for done, (mutant, lives) in enumerate(zip(chosen, pool.map(tried, chosen), strict=True), 1):
                if lives:
                    alive.append(mutant)
                    print(f"{done} of {count}: {mutant}   ({len(meets[mutant]) or 'no'} tests)", flush=True)
    killed = 1.0 - len(alive) / count
    print(json.dumps({"mutants": count, "seed": seed, "killed": round(killed, 3)}))
    return 0 if killed >= ASKED else 1


if __name__ == "__main__":
    sys.exit(main(*(int(a) for a in sys.argv[1:]) if len(sys.argv) == 3 else (300, 1)))

"""One word for one thing: what screens, messages and pages no longer say."""

import ast
from pathlib import Path

ROOT = Path(__file__).parents[1]
RETIRED = """
about the belt's way
against its tag
ask for?
asks for balloon
at the feet
brightness to reach
cannot be told:
click takes it
cuts it short
cuts, fills up
decided by
do not pass
do that
does not fit together
earlier in the sheet
enter ends
equal pitch
esc leaves
evaluated again it differs
expressions know
flipped parts
follows nothing
goes through the arrangements
greatest area
hang the sensor
how it hangs
how it turns
how many parts pass
how the target lies
is no address
is no number
is no station
it is judged all the same
judge profile by profile
judge the lot by
judged again.csv
keys and signs
later in the sheet
least contrast
least data
least share
least step
let the encoder make
level on something flat
linear, through both
longest unseen
look at the part
look at the path
look at the records
look back at what
look by look
look into plans
looks again
lost sight
measure the list by itself
moving back
next too early
no section shows it
nothing is bound to it
nothing is on record
nothing started a scan
of the first only
on the way
once more)
one more node
one more sensor
or unknown
parts judged as their
parts were taken over
pause the line, or go on
places in all
prepare for this alone
processes that judge
rub out
rub over
run of profiles
say what the drawing
scans came of them
slit flush
switch off, or on
take out
take over
take this alignment
takes the mount's tilt
their mean must pass
there is no picture
those nearest to trouble
truly are
tune the exposure
until they are let go
what did not pass
what follows it is told
what lines and outputs say
what not proven counts as
where the parts come from
without a group
would flip
x too large
y as x
z too large
zone: add a piece
""".strip().split("\n")


def shown_in(path: Path) -> str:
    """All that a module may show: its texts without docstrings."""
    tree = ast.parse(path.read_text())
    silent = {
        id(node.body[0].value)
        for node in ast.walk(tree)
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef)
        and node.body
        and isinstance(node.body[0], ast.Expr)
    } | {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}
    if path.name in ("cli.py", "records_app.py"):
        silent.clear()  # the help of a command is its docstring
    texts = (n for n in ast.walk(tree) if isinstance(n, ast.Constant) and isinstance(n.value, str))
    return "\n".join(node.value for node in texts if id(node) not in silent)


def test_no_screen_message_or_page_says_what_was_retired():
    said = shown_everywhere()
    assert [(name, phrase) for name, text in said.items() for phrase in RETIRED if phrase in text] == []


def shown_everywhere() -> dict[str, str]:
    """Screens, messages and pages in small letters, by file."""
    found = {str(p.relative_to(ROOT)): shown_in(p).lower() for p in (ROOT / "src" / "hemtra").rglob("*.py")}
    pages = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").glob("*.md")]
    return found | {p.name: p.read_text().lower() for p in pages}

"""Files that were made, or broken, to do harm: each is one sentence, soon, and takes no memory to speak of."""

import os
import resource
import time
import zipfile
from pathlib import Path

import ezdxf
import numpy as np
import pytest

from hemtra import FileError, HeightMap, HemtraError, Scan, save_scan
from hemtra.core.plan.requirements import parse_requirements
from hemtra.storage import x3p
from hemtra.storage.drawings import load_drawing
from hemtra.storage.plans import load_plan
from hemtra.storage.scans import load_scan
from hemtra.storage.stations import load_station
from hemtra.storage.trays import load_tray

DEEP = "[" * 100_000
SMALL = Scan(HeightMap(np.zeros((20, 30)), dx=0.1, dy=0.1), name="a")


def rewritten(path: Path, **entries) -> Path:
    """An X3P with some of its entries replaced, and the md5 of main.xml made right again."""
    save_scan(SMALL, path)
    with zipfile.ZipFile(path) as whole:
        held = {name: whole.read(name) for name in whole.namelist()}
    held |= {name.replace("__", "/").replace("_", "."): content for name, content in entries.items()}
    held["md5checksum.hex"] = f"{x3p._md5(held['main.xml'])} *main.xml".encode()
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as made:
        for name, content in held.items():
            made.writestr(name, content)
    return path


def told(path: Path) -> tuple[Scan | None, str]:
    """The scan and its serial, or None and why it cannot be read; anything else that is raised is a failure."""
    try:
        scan = load_scan(path)
    except FileError as error:
        return None, str(error)
    return scan, scan.serial


def main_of(path: Path) -> str:
    save_scan(SMALL, path)
    with zipfile.ZipFile(path) as whole:
        return whole.read("main.xml").decode()


def flipped_lzma(path: Path) -> Path:
    save_scan(SMALL, path)
    with zipfile.ZipFile(path) as whole:
        held = {name: whole.read(name) for name in whole.namelist()}
    with zipfile.ZipFile(path, "w", zipfile.ZIP_LZMA) as made:
        for name, content in held.items():
            made.writestr(name, content)
    raw = bytearray(path.read_bytes())
    raw[raw.index(b"main.xml") + 40] ^= 0x55
    path.write_bytes(raw)
    return path


def bomb(path: Path) -> Path:
    """Sixty kilobytes that say they are 16 million points."""
    xml = main_of(path).replace(">30<", ">4000<").replace(">20<", ">4000<")
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as made:
        made.writestr("main.xml", xml)
        with made.open("bindata/data.bin", "w", force_zip64=True) as stream:
            for _ in range(61):
                stream.write(bytes(1 << 20))
    return path


SCANS = {
    "deep": lambda p: rewritten(p, vendor__hemtra__scan_json=DEEP.encode()),
    "surrogate": lambda p: rewritten(p, vendor__hemtra__scan_json=b'{"serial": "\\ud800"}'),
    "klingon": lambda p: rewritten(p, main_xml=b'<?xml version="1.0" encoding="klingon"?><a/>'),
    "utf-7": lambda p: rewritten(p, main_xml=b'<?xml version="1.0" encoding="utf-7"?><a/>'),
    "tags": lambda p: rewritten(p, main_xml=b"<a>" + b"<b/>" * 1_000_000 + b"</a>"),
    "lzma": flipped_lzma,
    "bomb": bomb,
    "link to nothing": lambda p: p.symlink_to(p.parent / "gone") or p,
    "endless": lambda p: p.symlink_to("/dev/zero") or p,
    "pipe": lambda p: os.mkfifo(p) or p,
    "folder": lambda p: p.mkdir() or p,
}


@pytest.mark.parametrize("what", SCANS)
def test_no_scan_hangs_fills_memory_or_ends_in_a_traceback(what, tmp_path):
    path = SCANS[what](tmp_path / "a.x3p")
    before, began = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, time.perf_counter()
    scan, words = told(path)
    assert (scan is None) is (what != "surrogate")
    assert words.isprintable()
    assert len(words) < 400
    assert time.perf_counter() - began < 20, "it hangs"
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 300_000, "kB"


def dxf(path: Path, fill) -> Path:
    document = ezdxf.new()
    fill(document)
    document.saveas(path)
    return path


def nested(document):
    """Ten blocks, each ten times in the next."""
    document.blocks.new("B0").add_line((0, 0), (1, 0))
    for k in range(1, 11):
        block = document.blocks.new(f"B{k}")
        for _ in range(10):
            block.add_blockref(f"B{k - 1}", (0, 0))
    document.modelspace().add_blockref("B10", (0, 0))


def many(document):
    document.blocks.new("B").add_line((0, 0), (1, 0))
    document.modelspace().add_blockref("B", (0, 0), dxfattribs={"row_count": 30_000, "column_count": 30_000})


def far(document):
    document.modelspace().add_line((0, 0), (1e300, 1e300))
    document.modelspace().add_circle((0, 0), 1e300)


def itself(document):
    block = document.blocks.new("B")
    block.add_blockref("B", (1, 0))
    document.modelspace().add_blockref("B", (0, 0))


@pytest.mark.parametrize(
    ("fill", "words"), [(nested, "more than"), (many, "more than"), (far, "farther"), (itself, "damaged")]
)
def test_no_drawing_multiplies_itself(fill, words, tmp_path):
    with pytest.raises(FileError, match=words):
        load_drawing(dxf(tmp_path / "a.dxf", fill))


@pytest.mark.parametrize(
    ("name", "content", "read"),
    [
        ("a.hstation", DEEP, load_station),
        ("a.tray.json", DEEP, lambda p: load_tray(p.with_name("a.hplan"))),
        ("a.csv", "x,y\n" + "1" * 200_000 + ",2\n", load_drawing),
        ("a.csv", '"' + "1" * 200_000 + '",2\n3,4\n', load_drawing),
        (
            "a.csv",
            "balloon,name,upper\n1," + "x" * 200_000 + ",2\n",
            lambda p: parse_requirements(p.read_text()),
        ),
    ],
)
def test_no_text_is_too_deep_or_too_long(name, content, read, tmp_path):
    (tmp_path / name).write_text(content)
    with pytest.raises(HemtraError) as error:
        read(tmp_path / name)
    assert len(str(error.value)) < 400


def test_a_plan_within_a_plan_is_no_deeper_than_it_may_be(tmp_path):
    path = tmp_path / "a.hplan"
    with zipfile.ZipFile(path, "w") as made:
        made.writestr("plan.json", DEEP)
    with pytest.raises(HemtraError, match="not JSON"):
        load_plan(path)


@pytest.mark.parametrize("cut", range(40))
def test_a_scan_with_any_bytes_changed_is_read_or_refused_in_words(cut, tmp_path):
    path, rng = tmp_path / "a.x3p", np.random.default_rng(cut)
    save_scan(SMALL, path)
    raw = bytearray(path.read_bytes())
    for at in rng.integers(0, len(raw), 1 + cut % 5):
        raw[at] ^= int(rng.integers(1, 256))
    path.write_bytes(raw if cut % 3 else raw[: rng.integers(0, len(raw))])
    assert told(path)[1].isprintable()


def test_names_are_shown_without_what_a_terminal_obeys(tmp_path):
    path = tmp_path / ("\x1b[31m" + "x" * 200 + ".x3p")
    path.write_bytes(b"nothing")
    with pytest.raises(FileError) as error:
        load_scan(path)
    assert str(error.value).isprintable()
    assert len(str(error.value)) < 250

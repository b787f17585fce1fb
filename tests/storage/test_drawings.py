"""Paths from and to drawings: DXF and CSV, whole, odd and damaged."""

import io
import math
from contextlib import suppress

import ezdxf.document
import numpy as np
import pytest

from hemtra import HemtraError
from hemtra.core.errors import FileError
from hemtra.core.geometry.frames import Frame
from hemtra.core.paths.curve import curve_through
from hemtra.core.zones.zone import PathZone
from hemtra.storage.drawings import load_drawing, save_path


@pytest.fixture
def drawing(tmp_path):
    """Writes a DXF that `draw(modelspace, document)` fills; answers with its path."""

    def make(draw, unit=4, name="path.dxf"):
        document = ezdxf.document.Drawing.new("R2010")
        document.header["$INSUNITS"] = unit
        draw(document.modelspace(), document)
        text = io.StringIO()
        document.write(text)
        path = tmp_path / name
        path.write_text(text.getvalue())
        return path

    return make


def length(path):
    return curve_through(path.nodes, path.turns, [0.0] * len(path.nodes), closed=path.closed).length


def test_loose_lines_and_arcs_become_one_path(drawing):
    def draw(space, document):
        space.add_line((0, 0), (20, 0), dxfattribs={"layer": "BEAD"})
        space.add_line((25, 15), (25, 5), dxfattribs={"layer": "BEAD"})
        space.add_arc((20, 5), 5, -90, 0, dxfattribs={"layer": "BEAD"})
        space.add_line((0, 0), (3, 3), dxfattribs={"layer": "NOTES"})

    found = load_drawing(drawing(draw))
    assert found.layers == ("BEAD", "NOTES")
    bead = found.paths[0]
    assert bead.layer == "BEAD"
    assert length(bead) == pytest.approx(30 + math.pi / 2 * 5, abs=1e-3)
    assert not bead.closed


@pytest.mark.parametrize(
    ("draw", "size", "closed"),
    [
        (lambda s, d: s.add_circle((3, 4), 6), 12 * math.pi, True),
        (
            lambda s, d: s.add_lwpolyline(
                [(0, 0, 0), (10, 0, 1), (10, 4, 0), (0, 4, 1)], format="xyb", close=True
            ),
            20 + 4 * math.pi,
            True,
        ),
        (lambda s, d: s.add_polyline2d([(0, 0), (10, 0), (10, 10)]), 20.0, False),
        (lambda s, d: s.add_spline(fit_points=[(0, 0), (5, 0), (10, 0), (15, 0)]), 15.0, False),
        (lambda s, d: s.add_ellipse((0, 0), major_axis=(5, 0), ratio=1.0), 10 * math.pi, True),
    ],
    ids=["circle", "bulges", "polyline", "spline", "ellipse"],
)
def test_each_kind_of_line_keeps_its_length(drawing, draw, size, closed):
    path = load_drawing(drawing(draw)).paths[0]
    assert path.closed == closed
    assert length(path) == pytest.approx(size, rel=2e-3)


def test_blocks_units_and_heights(drawing):
    def draw(space, document):
        block = document.blocks.new("STRIP")
        block.add_line((0, 0), (1, 0))
        space.add_blockref("STRIP", (2, 3), dxfattribs={"xscale": 4.0})
        space.add_text("made up")

    inches = load_drawing(drawing(draw, unit=1))
    assert inches.unit == "in"
    assert inches.paths[0].nodes == pytest.approx(np.array([(2, 3), (6, 3)]) * 25.4)
    assert inches.in_unit("mm").paths[0].length == pytest.approx(4.0)
    unknown = load_drawing(drawing(draw, unit=0, name="plain.dxf"))
    assert (unknown.unit, unknown.paths[0].length) == ("", pytest.approx(4.0))
    steep = load_drawing(drawing(lambda s, d: s.add_line((0, 0, 0), (3, 0, 4)), name="steep.dxf"))
    assert "heights are left out" in steep.notes[0]
    assert steep.paths[0].length == pytest.approx(3.0)


def test_a_path_is_laid_on_the_part_by_its_frame_or_by_two_places(drawing):
    path = load_drawing(drawing(lambda s, d: s.add_lwpolyline([(0, 0), (30, 0), (30, 40)]))).paths[0]
    turned = path.in_frame(Frame(x=5.0, y=-2.0, rotation=90.0))
    assert turned.nodes == pytest.approx(np.array([(5, -2), (5, 28), (-35, 28)]), abs=1e-9)
    laid = path.by_two_places((1.0, 1.0), (1.0, 101.0))
    assert laid.nodes[0] == pytest.approx((1, 1))
    assert laid.nodes[2] == pytest.approx((1, 51)), "turned, not stretched"
    with pytest.raises(HemtraError, match="same"):
        path.by_two_places((1, 1), (1, 1))


def rounded() -> PathZone:
    plain = PathZone.through(np.array([(0, -10), (30, -10), (30, 10), (0, 10.0)]), closed=True)
    nodes = tuple(
        n.model_copy(update={"corner": 4.0 if k in (1, 2) else 0.0}) for k, n in enumerate(plain.nodes)
    )
    return plain.model_copy(update={"nodes": nodes, "rotation": 20.0})


@pytest.mark.parametrize("suffix", ["dxf", "csv"])
def test_what_is_saved_is_read_again(tmp_path, suffix):
    zone = rounded()
    save_path(tmp_path / f"out.{suffix}", zone)
    path = load_drawing(tmp_path / f"out.{suffix}").paths[0]
    assert path.closed
    again = path.zone(8.0).curve()
    assert again.length == pytest.approx(zone.curve().length, abs=0.02)
    off = [abs(zone.curve().nearest(*place)[1]) for place in again.at(np.linspace(0, again.length, 200))]
    assert max(off) < 0.01


def test_tables_are_read_as_people_write_them(tmp_path):
    for text in ("x;y;z\n0,5;1,5;3\n10;1,5;3\n", "0.5 \t1.5\n10\t1.5", "X,Y\n0.5, 1.5\n0.5, 1.5\n10,1.5\n"):
        (tmp_path / "path.csv").write_text(text)
        assert load_drawing(tmp_path / "path.csv").paths[0].nodes == pytest.approx(
            np.array([(0.5, 1.5), (10, 1.5)])
        )


@pytest.mark.parametrize(
    ("name", "content", "message"),
    [
        ("a.csv", b"x,y\n1,2\n", "needs two places"),
        ("a.csv", b"1,2\n1,2\n1,2", "same place again"),
        ("a.csv", b"1,2\n3,nan\n", "line 2"),
        ("a.csv", b"1,2\n3,four\n", "line 2"),
        ("a.csv", b"", "no path"),
        ("a.dxf", b"", "damaged|holds no lines"),
        ("a.dxf", b"\x00\xff\x80 no drawing at all", "damaged|holds no lines"),
        ("a.dxf", b"0\nSECTION\n2\nENTITIES\n0\nLINE\n10\nfar\n", "damaged|holds no lines"),
        ("a.svg", b"<svg/>", "from .dxf and .csv"),
    ],
)
def test_what_holds_no_path_says_so(tmp_path, name, content, message):
    (tmp_path / name).write_bytes(content)
    with pytest.raises(FileError, match=message):
        load_drawing(tmp_path / name)


def test_drawings_without_lines_cut_short_or_enormous(drawing, tmp_path, monkeypatch):
    with pytest.raises(FileError, match=r"holds no lines.*it holds TEXT"):
        load_drawing(drawing(lambda s, d: s.add_text("only words")))
    whole = drawing(lambda s, d: [s.add_line((k, 0), (k, 5)) for k in range(40)])
    for cut in (0.3, 0.7, 0.97):
        part = tmp_path / "cut.dxf"
        part.write_bytes(whole.read_bytes()[: int(cut * whole.stat().st_size)])
        with suppress(FileError):
            # what is whole of it may be read; anything else is refused as a damaged file
            assert load_drawing(part).paths
    monkeypatch.setattr("hemtra.storage.dxf.MOST_ENTITIES", 20)
    with pytest.raises(FileError, match="more than 20 entities"):
        load_drawing(whole)
    wave = [(k / 10, math.sin(k)) for k in range(700)]
    (tmp_path / "wave.csv").write_text("\n".join(f"{x},{y}" for x, y in wave))
    with pytest.raises(HemtraError, match=r"has 6\d\d nodes and may have 500"):
        load_drawing(tmp_path / "wave.csv").paths[0].zone(8.0)
    monkeypatch.setattr("hemtra.storage.drawings.LARGEST", 1000)
    with pytest.raises(FileError, match="larger than"):
        load_drawing(whole)
    assert not list(tmp_path.glob("*.part"))

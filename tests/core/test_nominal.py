"""The nominal surface of a mesh: drawn exactly, placed where it lies, and compared with parts."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial import Delaunay

from hemtra import Characteristic, Engine, HeightMap, Plan, Step, load_plan, save_plan
from hemtra.core.edits.anchors import redrawn
from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.maps.heightmap import Grid
from hemtra.core.maps.mesh import UP, Mesh, from_above, map_of_mesh
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.limits import Verdict
from hemtra.core.plan.nominal import nominal_of
from hemtra.core.proposals.nominal_placing import best_fit, by_points, nominal_from
from hemtra.storage.plans import load_plan_file
from makers import box
from meshes import part, pose, scanned

RNG = np.random.default_rng


@given(st.floats(-0.3, 0.3), st.floats(-0.3, 0.3), st.floats(-5, 5), st.integers(0, 99))
def test_a_plane_of_triangles_is_drawn_exactly(slope_x, slope_y, z0, seed):
    rng = RNG(seed)
    places = np.vstack([[(-9, -9), (9, -9), (9, 9), (-9, 9)], rng.uniform(-9, 9, (12, 2))])
    heights = z0 + slope_x * places[:, 0] + slope_y * places[:, 1]
    mesh = Mesh(np.column_stack([places, heights]), Delaunay(places).simplices)
    found = from_above(mesh, Grid(-8.0, -8.0, 0.37, 0.41), (38, 43))
    true = z0 + slope_x * found.x[None, :] + slope_y * found.y[:, None]
    assert np.abs(found.z - true).max() < 1e-4


def test_the_highest_surface_is_seen_and_nothing_beside():
    low = np.array([(-5, -5, 0), (5, -5, 0), (5, 5, 0), (-5, 5, 0)], float)
    high = low * (0.5, 0.5, 1) + (0, 0, 3)
    mesh = Mesh(np.vstack([low, high]), np.array([(0, 1, 2), (0, 2, 3), (4, 5, 6), (4, 6, 7)]))
    found = map_of_mesh(mesh, 0.5)
    x, y = np.abs(found.x)[None, :], np.abs(found.y)[:, None]
    assert np.isnan(found.z[(x > 5.01) | (y > 5.01)]).all()
    assert (found.z[(x < 2.4) & (y < 2.4)] == 3.0).all()
    assert (found.z[((x > 2.6) | (y > 2.6)) & (x < 4.9) & (y < 4.9)] == 0.0).all()


@pytest.mark.parametrize("up", UP)
def test_any_axis_can_point_to_the_sensor_and_nothing_is_mirrored(up):
    turn = np.array(UP[up], float)
    assert np.linalg.det(turn) == pytest.approx(1.0)
    axis = np.zeros(3)
    axis["xyz".index(up[1])] = 1.0 if up[0] == "+" else -1.0
    assert Mesh(np.vstack([axis, np.eye(3)]), np.array([[0, 1, 2]])).seen_from(up).corners[0] == pytest.approx(
        (0, 0, 1)
    )


@pytest.mark.parametrize(
    ("corners", "faces", "said"),
    [
        (np.empty((0, 3)), np.empty((0, 3), int), "no triangles"),
        (np.full((3, 3), np.nan), np.array([[0, 1, 2]]), "no numbers"),
        (np.zeros((3, 3)), np.array([[0, 1, 7]]), "corners are missing"),
        (np.array([[-1e308, 0, 0], [1e308, 0, 0], [0, 1, 0]]), np.array([[0, 1, 2]]), "unit"),
    ],
)
def test_a_mesh_that_is_none_says_so(corners, faces, said):
    with pytest.raises(HemtraError, match=said):
        Mesh(corners, faces)


@pytest.mark.parametrize("seed", range(6))
def test_a_best_fit_finds_the_pose_within_microns(seed):
    rng = RNG(seed)
    true = pose((rng.uniform(-3, 3), *rng.uniform(-1.5, 1.5, 2)), (*rng.uniform(-3, 3, 2), rng.uniform(-1, 1)))
    start = true.after(rng.uniform(-0.02, 0.02, 3), rng.uniform(-0.4, 0.4, 3))
    mesh = part()
    found = best_fit(mesh, scanned(mesh, true, seed=seed), start)
    off = mesh.moved(found.matrix, found.offset).corners - mesh.moved(true.matrix, true.offset).corners
    assert np.abs(off[:, 2]).max() < 0.003
    assert np.abs(off[:, :2]).max() < 0.02


@pytest.mark.parametrize("rotation", [0.0, 37.0, 180.0, -100.0])
def test_the_outline_places_a_mesh_at_any_angle_and_the_fit_settles_it(rotation):
    mesh = part()
    true = pose((rotation, 0.4, -0.3), (1.5, -2.0, 0.6))
    data = scanned(mesh, true)
    rough = nominal_from(mesh, "part.stl", data, "outline")
    assert rough.rotation == pytest.approx(rotation, abs=1.0) or abs(rough.rotation - rotation) > 359.0
    found = nominal_from(mesh, "part.stl", data, "best fit")
    assert found.rms < rough.rms
    off = np.asarray(data.z, float) - found.data.z
    assert np.nanmedian(np.abs(off)) < 0.006
    assert (found.x, found.y) == (pytest.approx(1.5, abs=0.03), pytest.approx(-2.0, abs=0.03))


def test_three_points_place_it_and_fewer_or_those_on_a_line_do_not():
    true = pose((25.0, 2.0, -1.0), (3.0, 4.0, 5.0))
    points = RNG(3).uniform(-10, 10, (4, 3))
    pairs = list(zip(points.tolist(), (points @ true.matrix.T + true.offset).tolist(), strict=True))
    found = by_points(pairs)
    assert found.matrix == pytest.approx(true.matrix, abs=1e-9)
    assert found.offset == pytest.approx(true.offset, abs=1e-9)
    for wrong, said in (
        (pairs[:2], "three points are needed"),
        ([((0, 0, 0), (0, 0, 0)), ((1, 0, 0), (1, 0, 0)), ((2, 0, 0), (2, 0, 0))], "on one line"),
        ([((0, 0), (0, 0))] * 3, "x, y and z"),
    ):
        with pytest.raises(NotMeasured, match=said):
            by_points(wrong)


def test_a_mesh_that_is_not_there_is_not_placed():
    empty = HeightMap(np.zeros((200, 300)), dx=0.2, dy=0.2)
    with pytest.raises(NotMeasured):
        nominal_from(part(), "part.stl", empty, "outline")
    with pytest.raises(NotMeasured, match="do not come close"):
        best_fit(part(), empty, pose(offset=(900.0, 0.0, 0.0)))


def plan_with(nominal, against="nominal", cell=1.0) -> Plan:
    steps = (
        Step(
            id="map",
            name="Map",
            kind="deviation-map",
            zone=box(0.0, 0.0, 12, 12),
            params={"against": against, "cell": cell},
        ),
        Step(id="off", name="Off", kind="surface-deviation", inputs={"of": ("map",)}),
    )
    row = Characteristic(balloon=1, name="Off", step="off", upper=0.05)
    return Plan(name="nominal", steps=steps, sheet=(row,), nominal=nominal)


def test_a_part_is_compared_with_the_model_and_not_with_the_reference(tmp_path):
    """The reference part itself has a bump that the drawing does not have."""
    mesh = part()
    reference, good = scanned(part(bump=0.3), pose()), scanned(mesh, pose(), seed=5)
    found = nominal_from(mesh, "part.stl", reference, "best fit")
    plan = Engine(reference).taught(plan_with(found))
    values = [Engine(data).run(plan).characteristics[0].value for data in (reference, good)]
    assert values == [pytest.approx(0.3, abs=0.02), pytest.approx(0.0, abs=0.02)]
    other = Engine(reference).taught(plan_with(found, against="reference"))
    values = [Engine(data).run(other).characteristics[0].value for data in (reference, good)]
    assert values == [pytest.approx(0.0, abs=0.01), pytest.approx(0.3, abs=0.02)]
    # kept in the file with its heights, and kept by who saves the plan without them
    path = tmp_path / "plan.hplan"
    save_plan(plan, path, Scan(reference))
    held = load_plan_file(path)
    assert held.plan == plan
    assert np.array_equal(held.plan.nominal.data.z, found.data.z, equal_nan=True)
    bare = load_plan(path)
    assert bare.nominal.data is None
    assert Engine(good).run(bare).characteristics[0].value == pytest.approx(0.0, abs=0.02)
    assert Engine(reference).taught(bare) == bare, "without its heights nothing is forgotten"
    save_plan(bare, path, Scan(reference))
    assert np.array_equal(load_plan_file(path).plan.nominal.data.z, found.data.z, equal_nan=True)
    # without a nominal surface there is nothing to teach from
    (row,) = Engine(reference).run(Engine(reference).taught(plan_with(None))).characteristics
    assert "place the mesh of the drawing first" in row.reason


@pytest.mark.parametrize(("take", "asked"), [("greatest", 0.05), ("beyond", 4.0)])
def test_a_bump_where_nothing_was_seen_keeps_a_comparison_from_passing(take, asked):
    """All of the bump lies in a hole of the data."""
    reference = scanned(part(), pose())
    plan = plan_with(None, against="reference")
    off = plan.step("off").edited(params={"take": take})
    plan = Engine(reference).taught(plan.with_step(off).with_characteristic(plan.sheet[0].edited(upper=asked)))
    z = scanned(part(bump=0.3), pose(), seed=5)
    assert Engine(z).run(plan).verdict is Verdict.FAIL
    seen = np.where(np.abs(z.x) < 2.2, np.nan, z.z)
    hidden = HeightMap(seen, None, z.grid.dx, z.grid.dy, z.grid.x0, z.grid.y0)
    row = Engine(hidden).run(plan).characteristics[0]
    assert row.verdict is Verdict.NOT_MEASURED
    assert "seen" in row.reason


def test_on_another_reference_the_model_is_placed_anew_and_not_where_it_lay():
    mesh = part()
    reference = scanned(mesh, pose())
    plan = Engine(reference).taught(plan_with(nominal_from(mesh, "part.stl", reference, "best fit")))
    shifted = Engine(scanned(mesh, pose(offset=(1.5, 0.0, 0.0)), seed=3))
    changed = redrawn(plan, shifted)
    assert changed.nominal is None
    (row,) = shifted.run(changed).characteristics
    assert row.value is None
    assert "place the mesh of the drawing first" in row.reason


def test_heights_of_another_surface_are_not_taken_for_it():
    data = HeightMap(np.zeros((5, 5)))
    made = nominal_of("a.stl", "points", pose().numbers, 0.0, data)
    assert made.with_data(data).data is data
    assert made.with_data(HeightMap(np.ones((5, 5)))).data is None

"""Parts as other programs hand them on: round faces as splines, faces split without need, edges rounded."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from kind_rivet.core.geometry.carriers import Carrier, distance, project, surface_normals
from kind_rivet.core.geometry.curving import curving_on
from kind_rivet.core.geometry.hidden import hidden_carrier
from kind_rivet.core.geometry.rays import FacetTree
from kind_rivet.core.geometry.shape import Shape
from kind_rivet.core.geometry.simplify import simplify
from kind_rivet.core.meshing.free.constrained import constrained_triangles
from kind_rivet.core.midsurface.extract import extract
from kind_rivet.core.midsurface.fields import FacetField, face_field
from kind_rivet.core.midsurface.middles import less_slotted
from kind_rivet.core.midsurface.pairs import find_opposed, find_pairs
from kind_rivet.core.midsurface.sheet import Sheet
from kind_rivet.core.midsurface.stations import away_from
from tests.rough import as_splines, patched_skin, rounded, split
from tests.thin_meshes import drawing, drawn, drawn_sheet, meshed, size_for, solid_of

AXIS = (0.36, 0.48, 0.8)
KINDS = [
    Carrier("plane", (3.0, -2.0, 5.0, *AXIS)),
    Carrier("cylinder", (3.0, -2.0, 5.0, *AXIS, 40.0)),
    Carrier("cone", (30.0, -20.0, 5.0, *AXIS, 0.4)),
    Carrier("sphere", (3.0, -2.0, 5.0, 60.0)),
    Carrier("torus", (3.0, -2.0, 5.0, *AXIS, 70.0, 12.0)),
]


def places_on(carrier: Carrier, seed: int = 7, about: float = 50.0) -> tuple[np.ndarray, np.ndarray]:
    """Places near one corner of a carrier, not all round it, and its normals there."""
    rng = np.random.default_rng(seed)
    points = project(carrier, np.array([40.0, 30.0, 60.0]) + rng.uniform(-about, about, (80, 3)))
    normals = np.tile(carrier.array[3:6], (80, 1)) if carrier.kind == "plane" else surface_normals(carrier, points)
    return points, normals


@pytest.mark.parametrize("carrier", KINDS, ids=[c.kind for c in KINDS])
def test_splines_are_told_what_they_are(carrier: Carrier) -> None:
    points, normals = places_on(carrier)
    for sense in (1, -1):
        found = hidden_carrier(points, sense * normals)
        assert found.kind == carrier.kind
        assert distance(found, points).max() < 1e-9 * np.ptp(points)
        assert distance(carrier, project(found, points + 3.0)).max() < 1e-6


def test_a_small_stretch_of_a_fillet_is_enough() -> None:
    carrier = Carrier("torus", (3.0, -2.0, 5.0, *AXIS, 70.0, 3.0))
    points, normals = places_on(carrier, about=8.0)
    found = hidden_carrier(points, normals)
    assert found.kind == "torus"
    assert found.data[6:] == pytest.approx((70.0, 3.0), rel=1e-6)


def test_other_surfaces_stay_free() -> None:
    u, v = (a.ravel() for a in np.meshgrid(np.linspace(0.2, 2.4, 12), np.linspace(0.3, 1.8, 12)))
    flight = np.column_stack((v * np.cos(u), v * np.sin(u), 0.3 * u))  # a screw turns within itself, but not about an axis alone
    across = np.cross(np.column_stack((-v * np.sin(u), v * np.cos(u), 0.3 + 0 * u)), np.column_stack((np.cos(u), np.sin(u), 0 * u)))
    assert hidden_carrier(flight, across / np.linalg.norm(across, axis=1)[:, None]).kind == "free"
    egg = np.column_stack((np.cos(u) * np.sin(v), np.sin(u) * np.sin(v), 1.2 * np.cos(v)))
    out = egg / [1, 1, 1.44]
    assert hidden_carrier(egg, out / np.linalg.norm(out, axis=1)[:, None]).kind == "free"
    assert hidden_carrier(egg[:4], out[:4]).kind == "free"
    assert hidden_carrier(np.tile(egg[:1], (9, 1)), np.tile(out[:1], (9, 1))).kind == "free"


def kinds(shape: Shape) -> list[str]:
    return [face.carrier.kind for face in shape.faces] + sorted(edge.carrier.kind for edge in shape.edges)


def is_like(sheet: Sheet, other: Sheet, mass: float) -> None:
    assert sheet.proof is not None and other.proof is not None
    assert sheet.proof.pieces == other.proof.pieces
    assert len(sheet.shape.faces) == len(other.shape.faces)
    assert sheet.proof.inner_free_length <= other.proof.inner_free_length + 1e-9
    assert sheet.proof.mass_ratio == pytest.approx(other.proof.mass_ratio, abs=mass)
    assert sheet.proof.cover >= other.proof.cover - 0.002


@pytest.mark.parametrize("name", ["barbed_spout", "finned_disc", "pocket_part", "braced_spigot"])
def test_all_faces_as_splines(name: str) -> None:
    solid = solid_of(as_splines(part(name)))
    assert kinds(solid) == kinds(drawn(name))
    is_like(extract(solid), drawn_sheet(name), 0.002)


def part(name: str) -> object:
    for script in ("thin_parts", "moulded_parts", "hole_patterns", "joined_parts", "round_parts", "touching_parts", "vessel_parts"):
        if name in (parts := drawing(f"draw_{script}").PARTS):
            return parts[name]()
    raise KeyError(name)


PLANES = [((10.0, 5.0, 20.0), (0.5, 0.3, 0.8)), ((-5.0, 12.0, 30.0), (-0.4, 0.9, 0.2))]


@pytest.mark.parametrize("name", ["duct", "louvre", "braced_spigot"])
def test_faces_split_without_need(name: str) -> None:
    solid = solid_of(split(part(name), PLANES))
    assert len(solid.faces) > len(drawn(name).faces)
    is_like(extract(solid), drawn_sheet(name), 0.002)


def test_split_free_faces_are_one_again() -> None:
    solid = solid_of(split(part("duct"), PLANES))
    assert curving_on(solid)
    joined, origin = simplify(solid, blends=True, turning=np.pi)
    assert len(joined.faces) == len(origin) == len(simplify(drawn("duct"), blends=True, turning=np.pi)[0].faces)
    assert len(simplify(solid)[0].faces) > len(joined.faces)  # for meshing, what an analyst has split stays split


@pytest.mark.parametrize("rib_from", [5.0, 0.0])
def test_a_skin_of_patches_over_ribs(rib_from: float) -> None:
    """Patches cut elsewhere on the other side, and ribs that leave slots in them: one skin, and joints all along the ribs."""
    solid = solid_of(patched_skin(rib_from))
    sheet = extract(solid)
    assert sheet.proof is not None
    assert sheet.proof.pieces == 1 and sheet.proof.inner_free_length == 0
    assert sheet.proof.mass_ratio == pytest.approx(1.0, abs=0.003)
    assert sheet.proof.cover > 0.998
    free = [f for f, face in enumerate(sheet.shape.faces) if face.carrier.kind == "free"]
    joints = [e for e, beside in enumerate(sheet.shape.edge_faces) if len(beside) > 2 and set(beside) & set(free)]
    assert sheet.shape.edge_length[joints].sum() > 160
    mesh = meshed(sheet, size_for(solid))
    assert len(mesh.quality.failing) == 0
    assert mesh.quad_share > 0.985


def test_patches_are_joined_round_the_foot_of_a_rib_but_not_round_a_tube() -> None:
    skin, _ = simplify(solid_of(patched_skin(5.0)), blends=True, turning=np.pi)
    areas = sorted(skin.face_area[[f for f, face in enumerate(skin.faces) if face.carrier.kind == "free"]])
    assert areas[-2] > 9000 and (len(areas) == 2 or areas[-3] < 400)  # both sides of the skin, and rims
    tube, _ = simplify(solid_of(split(part("leaning_duct"), PLANES)), blends=True, turning=np.pi)
    for f, face in enumerate(tube.faces):  # a tube without a seam could not be laid flat
        if face.carrier.kind == "free":
            facets = tube.facets[tube.facet_face == f]
            sides = np.sort(np.concatenate((facets[:, :2], facets[:, 1:], facets[:, ::2])), axis=1)
            assert len(np.unique(facets)) - len(np.unique(sides, axis=0)) + len(facets) == 1


def test_patches_that_turn_too_far_stay_apart() -> None:
    solid = solid_of(patched_skin(5.0))
    faces = [len(simplify(solid, turning=turning)[0].faces) for turning in (None, 0.01, 0.3, np.pi)]
    assert faces[0] >= faces[1] > faces[2] >= faces[3]


def test_corners_where_roundings_meet_are_kept() -> None:
    """The border of the plate is rounded all round: its middle has four corners all the same."""
    sheet = drawn_sheet("ribbed_plate_blends").shape
    border = sheet.points[
        np.unique(np.concatenate([edge.nodes for edge, beside in zip(sheet.edges, sheet.edge_faces, strict=True) if beside == (0,)]))
    ]
    inset = 1.5 - (1.5**2 - 0.5**2) ** 0.5
    for corner in ((inset, inset), (100 - inset, inset), (inset, 70 - inset), (100 - inset, 70 - inset)):
        assert np.linalg.norm(border - [*corner, -1.0], axis=1).min() < 1e-3


def test_a_brace_that_runs_out_on_a_tube_makes_no_wall_there() -> None:
    """Between the slanted rim of a gusset and the inside of the tube lies none, however fine the facets are."""
    solid = solid_of(as_splines(part("braced_spigot")))
    pairs = find_pairs(solid, find_opposed(solid, FacetTree.over(solid.points, solid.facets)))
    kinds_of = {frozenset((solid.faces[p.a].carrier.kind, solid.faces[p.b].carrier.kind)) for p in pairs}
    assert kinds_of == {frozenset({"plane"}), frozenset({"cylinder"})}


def test_a_free_wall_is_laid_flat_by_the_side_without_slots() -> None:
    solid = solid_of(patched_skin(5.0))
    joined, _ = simplify(solid, blends=True, turning=np.pi)
    sides = sorted(np.flatnonzero([face.carrier.kind == "free" for face in joined.faces]), key=lambda f: -joined.face_area[f])[:2]
    fields = [face_field(joined, int(f)) for f in sides]
    assert all(isinstance(field, FacetField) for field in fields)
    chosen = sides[fields.index(less_slotted(fields))]
    assert joined.face_border_length[chosen] == min(joined.face_border_length[sides])


@pytest.mark.parametrize("seed", range(40))
def test_places_all_but_on_one_another_are_triangulated_or_refused(seed: int) -> None:
    """Sides through heaps of places a hair apart: in order or not at all, and never outside what was given."""
    rng = np.random.default_rng(seed)
    heap = rng.uniform(0, 1, (12, 2))
    places = np.concatenate([heap + rng.normal(0, 10.0 ** rng.integers(-16, -6), heap.shape) for _ in range(6)])
    sides = rng.integers(0, len(places), (20, 2))
    made = constrained_triangles(places, sides[sides[:, 0] != sides[:, 1]])
    if made is not None:
        tri, beside, kept = made
        assert tri.min() >= 0 and tri.max() < len(places) + 4
        assert beside.max() < len(tri)
        assert kept.any()


def test_what_bends_more_is_not_joined() -> None:
    """Freely curved fillets run on smoothly into their walls, but do not curve alike."""
    for name in ("duct", "bowed_tray", "louvre"):
        assert not curving_on(drawn(name))


@pytest.mark.parametrize(("name", "radius"), [("box_with_lugs", 0.5), ("strutted_ring", 0.5), ("ribbed_plate", 0.4)])
def test_rounded_edges_change_nothing(name: str, radius: float) -> None:
    solid = solid_of(rounded(part(name), radius))
    assert len(solid.faces) > len(drawn(name).faces)
    is_like(extract(solid), drawn_sheet(name), 0.01)


def test_distance_from_a_polyline() -> None:
    line = np.array([[0.0, 0, 0], [2, 0, 0], [2, 0, 0], [2, 3, 0]])
    points = np.array([[1.0, -1, 0], [-3, 0, 4], [2, 1, 2], [4, 5, 0]])
    assert away_from(points, line) == pytest.approx([1.0, 5.0, 2.0, 8**0.5])
    turn = Rotation.from_rotvec([0.3, -0.8, 0.5])
    assert away_from(turn.apply(points), turn.apply(line)) == pytest.approx(away_from(points, line))
    assert np.isinf(away_from(points, line[:1])).all()

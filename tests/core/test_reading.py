"""Files of many kinds: STEP assemblies, IGES, BREP, facets, meshes; and files that are damaged."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
import pytest

from kind_rivet.core.document.document import Document
from kind_rivet.core.errors import Refused, Unreadable
from kind_rivet.core.files.facets import read_facets
from kind_rivet.core.geometry.soup import shape_from_triangles
from kind_rivet.core.operations import perform
from kind_rivet.core.operations.part import open_part
from tests.conftest import EXAMPLES, PARTS
from tests.made_up import cube


def opened(path: Path, **more: object) -> Document:
    return perform(Document(), "part.open", {"path": str(path), **more})


def test_an_assembly_keeps_its_tree_names_colours_and_wires() -> None:
    d = opened(EXAMPLES / "cradle_assembly.step")
    assert {b.name: b.kind for b in d.bodies} == {
        "Tray": "solid", "Doubler": "solid", "Lug 1": "solid", "Lug 2": "solid", "Rail left": "wire", "Rail right": "wire",
    }  # fmt: skip
    lugs = [b for b in d.bodies if b.name.startswith("Lug")]
    assert np.allclose(lugs[1].shape.box - lugs[0].shape.box, [[240, 0, 0], [240, 0, 0]], atol=1e-6)
    assert lugs[0].colour == "#8FA3B3"
    rail = next(b for b in d.bodies if b.kind == "wire")
    assert len(rail.shape.edges) == 3
    assert [e.carrier.kind for e in rail.shape.edges] == ["line", "circle", "line"]
    assert rail.shape.edge_length.sum() == pytest.approx(380 + 60 * 0.7 + 80, rel=1e-3)


def test_inches_become_millimetres() -> None:
    d = opened(EXAMPLES / "lug_inch.step")
    assert "inch" in d.notes[0]
    assert np.ptp(d.bodies[0].shape.box[:, 0]) == pytest.approx(40.0, abs=1e-6)


def test_iges_faces_are_sewn_to_a_solid() -> None:
    d = opened(EXAMPLES / "doubler.igs")
    body = d.bodies[0]
    assert (body.name, body.kind) == ("doubler", "solid")
    assert body.shape.volume == pytest.approx(160 * 144 * 1.5 - 4 * np.pi * 4.5**2 * 1.5, rel=2e-3)
    assert len(body.holes) == 4


def test_brep_files_open(tmp_path: Path) -> None:
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.BRepTools import BRepTools

    path = tmp_path / "box.brep"
    BRepTools.Write_s(BRepPrimAPI_MakeBox(10.0, 20.0, 30.0).Shape(), str(path))
    body = opened(path).bodies[0]
    assert body.shape.volume == pytest.approx(6000)
    assert len(body.brep)


@pytest.mark.skipif(not PARTS.exists(), reason="the real parts are not here")
@pytest.mark.parametrize("name", ["clip", "saddle", "fins", "cup", "blocks"])
def test_real_parts_open_with_sensible_walls(name: str) -> None:
    body = opened(PARTS / f"{name}.step").bodies[0]
    assert body.name == name
    thickest = {"clip": 0.2, "saddle": 0.4, "fins": 5.0, "cup": 1.0, "blocks": 2.0}[name]
    assert body.walls[0][0] == pytest.approx(thickest, rel=0.02)


# -- facets ----------------------------------------------------------------------
def write_stl(path: Path, points: np.ndarray, triangles: np.ndarray) -> None:
    rows = np.zeros(len(triangles), np.dtype([("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("extra", "<u2")]))
    rows["corner"] = points[triangles]
    path.write_bytes(b"made up".ljust(80) + struct.pack("<I", len(triangles)) + rows.tobytes())


def test_stl_obj_and_ply_give_the_same_faces(tmp_path: Path) -> None:
    shape = cube()
    write_stl(tmp_path / "cube.stl", shape.points, shape.facets)
    lines = "".join("v {:g} {:g} {:g}\n".format(*p) for p in shape.points)
    (tmp_path / "cube.obj").write_text(lines + "".join("f {} {} {}\n".format(*(f + 1)) for f in shape.facets))
    head = f"ply\nformat ascii 1.0\nelement vertex {len(shape.points)}\nproperty float x\nproperty float y\nproperty float z\n"
    head += f"element face {len(shape.facets)}\nproperty list uchar int vertex_indices\nend_header\n"
    rows = "".join("{:g} {:g} {:g}\n".format(*p) for p in shape.points) + "".join("3 {} {} {}\n".format(*f) for f in shape.facets)
    (tmp_path / "cube.ply").write_text(head + rows)
    text = "solid cube\n" + "".join(
        "facet normal 0 0 0\nouter loop\n" + "".join("vertex {:g} {:g} {:g}\n".format(*shape.points[v]) for v in f) + "endloop\nendfacet\n"
        for f in shape.facets
    )
    (tmp_path / "words.stl").write_text(text + "endsolid cube\n")
    for name in ("cube.stl", "cube.obj", "cube.ply", "words.stl"):
        body = opened(tmp_path / name).bodies[0]
        assert (body.kind, len(body.shape.faces), len(body.shape.edges)) == ("facets", 6, 12), name
        assert body.shape.volume == pytest.approx(1000)
        assert all(f.carrier.kind == "plane" for f in body.shape.faces)


def tube(n: int = 48, radius: float = 10.0, height: float = 30.0) -> tuple[np.ndarray, np.ndarray]:
    """A closed can of triangles."""
    a = np.arange(n) / n * 2 * np.pi
    ring = np.column_stack((radius * np.cos(a), radius * np.sin(a), np.zeros(n)))
    points = np.vstack((ring, ring + (0, 0, height), [[0, 0, 0], [0, 0, height]]))
    i, j = np.arange(n), (np.arange(n) + 1) % n
    rows = [
        np.column_stack(t) for t in ((i, j, j + n), (i, j + n, i + n), (j, i, np.full(n, 2 * n)), (i + n, j + n, np.full(n, 2 * n + 1)))
    ]
    return points, np.vstack(rows).astype(np.int32)


def test_faces_are_found_by_feature_angle_with_their_carriers() -> None:
    points, triangles = tube()
    soup = shape_from_triangles(points, triangles)
    assert soup.closed
    assert sorted(f.carrier.kind for f in soup.shape.faces) == ["cylinder", "plane", "plane"]
    assert [e.carrier.kind for e in soup.shape.edges] == ["circle", "circle"]
    fine = shape_from_triangles(points, triangles, angle=5.0)
    assert len(fine.shape.faces) == 50


def test_soups_with_faults_are_mended_or_named() -> None:
    points, triangles = tube()
    inside_out = shape_from_triangles(points, triangles[:, [0, 2, 1]])
    assert inside_out.shape.volume > 0
    assert any("inside out" in n for n in inside_out.notes)
    mixed = triangles.copy()
    mixed[::7] = mixed[::7][:, [1, 0, 2]]
    assert shape_from_triangles(points, mixed).shape.volume == pytest.approx(inside_out.shape.volume)
    holed = shape_from_triangles(points, triangles[5:])
    assert not holed.closed
    assert not holed.shape.solid
    broken = np.vstack((points, [[np.nan, 0, 0]]))
    nan = shape_from_triangles(broken, np.vstack((triangles, [[0, 1, len(points)]])).astype(np.int32))
    assert any("no numbers" in n for n in nan.notes)
    many = shape_from_triangles(np.vstack((points, [[0, 0, -50]])), np.vstack((triangles, [[0, 1, len(points)]])).astype(np.int32))
    assert any("more than two" in n for n in many.notes)
    with pytest.raises(Refused, match="degenerate"):
        shape_from_triangles(points, np.array([[0, 0, 1]], np.int32))


def test_a_facet_box_can_be_meshed_like_a_part(tmp_path: Path) -> None:
    shape = cube()
    write_stl(tmp_path / "cube.stl", shape.points, shape.facets)
    d = opened(tmp_path / "cube.stl")
    d = perform(d, "midsurface.take_faces", {"body": 1, "thickness": 0.5})
    d = perform(d, "mesh.shells", {"size": 2.0})
    assert d.mesh.counts() == {"quad": 150}


def test_faces_are_made_from_a_mesh_that_was_opened(tmp_path: Path, tray_mesh: Document) -> None:
    from kind_rivet.core.files.exchange import Exchange
    from kind_rivet.core.files.vtu import write_vtu

    write_vtu(Exchange.of(tray_mesh), tmp_path / "mesh.vtu")
    d = opened(tmp_path / "mesh.vtu")
    assert d.mesh.elements == tray_mesh.mesh.elements
    assert not d.bodies
    made = perform(d, "part.faces_from_mesh", {"angle": 40})
    body = made.bodies[0]
    assert body.kind == "facets"
    assert body.shape.face_area.sum() == pytest.approx(tray_mesh.sheets[1].area, rel=1e-2)
    assert sum(e.carrier.kind == "circle" for e in body.shape.edges) == 18  # six holes of four sides could as well be square
    again = perform(replace_mesh(made), "part.faces_from_mesh", {"angle": 5})  # shells at the ends of the bends lie askew
    assert len(again.bodies[0].shape.faces) > len(body.shape.faces)


def replace_mesh(document: Document) -> Document:
    from dataclasses import replace

    from kind_rivet.core.mesh.mesh import Mesh

    return replace(document, mesh=Mesh())


def test_a_large_stl_reads_whole(tmp_path: Path) -> None:
    n = 200
    x, y = np.meshgrid(np.arange(n) * 1.0, np.arange(n) * 1.0, indexing="ij")
    points = np.column_stack((x.ravel(), y.ravel(), 3 * np.sin(x / 20).ravel()))
    i = np.arange(n * n).reshape(n, n)
    quads = np.stack((i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]), -1).reshape(-1, 4)
    write_stl(tmp_path / "wave.stl", points, np.vstack((quads[:, :3], quads[:, [0, 2, 3]])))
    body = opened(tmp_path / "wave.stl").bodies[0]
    assert len(body.shape.facets) == 2 * (n - 1) ** 2
    assert (len(body.shape.faces), len(body.shape.edges)) == (1, 4)


# -- damage -----------------------------------------------------------------------
def damaged(data: bytes, rng: np.random.Generator) -> bytes:
    """Bytes flipped, a piece cut out, the end cut off, lines swapped, or a number replaced by nonsense."""
    way = rng.integers(5)
    if way == 0:
        out = bytearray(data)
        for k in rng.integers(0, len(data), 1 + int(rng.integers(8))):
            out[k] = int(rng.integers(256))
        return bytes(out)
    if way == 1:
        a = int(rng.integers(len(data)))
        return data[:a] + data[a + int(rng.integers(1, 4000)) :]
    if way == 2:
        return data[: int(rng.integers(len(data)))]
    if way == 3:
        lines = data.split(b"\n")
        a, b = (int(k) for k in rng.integers(0, len(lines), 2))
        lines[a], lines[b] = lines[b], lines[a]
        return b"\n".join(lines)
    a = int(rng.integers(len(data)))
    word = [b"NaN", b"1e400", b"-", b"#0", b"$"][int(rng.integers(5))]
    return data[:a] + word + data[a + len(word) :]


def damage_files(folder: Path) -> list[Path]:
    shape = cube()
    write_stl(folder / "cube.stl", shape.points, shape.facets)
    (folder / "cube.obj").write_text(
        "".join("v {:g} {:g} {:g}\n".format(*p) for p in shape.points) + "".join("f {} {} {}\n".format(*(f + 1)) for f in shape.facets)
    )
    return [EXAMPLES / "lug_inch.step", EXAMPLES / "doubler.igs", folder / "cube.stl", folder / "cube.obj", EXAMPLES / "sliver_tray.step"]


@pytest.mark.parametrize("seed", range(10))
def test_damaged_files_never_kill_the_program(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """300 damaged files in all (10 × 30): each either opens, with finite geometry, or is refused in words."""
    import kind_rivet.core.operations.part as part

    monkeypatch.setattr(part, "READ_LIMIT", 20.0)
    rng = np.random.default_rng(seed)
    sources = damage_files(tmp_path)
    outcomes = {"opened": 0, "refused": 0}
    for k in range(30):
        source = sources[k % len(sources)]
        path = tmp_path / f"damaged_{k}{source.suffix}"
        path.write_bytes(damaged(source.read_bytes(), rng))
        try:
            d = open_part(Document(), part.OpenPart(path=str(path)), lambda share, what: None)
        except Unreadable as reason:
            outcomes["refused"] += len(str(reason)) > 20
            continue
        assert all(np.isfinite(b.shape.points).all() for b in d.bodies)
        outcomes["opened"] += 1
    assert outcomes["refused"] > 3
    assert sum(outcomes.values()) == 30


def test_what_is_no_file_of_its_kind_is_said_so(tmp_path: Path) -> None:
    cases = {
        "a.stl": b"",
        "b.stl": b"solid x\nfacet\nvertex 1 2\n",
        "c.obj": b"nothing here",
        "d.ply": b"obj",
        "e.igs": b"text",
        "f.brep": b"text",
        "g.xyz": b"1 2 3",
    }
    for name, data in cases.items():
        (tmp_path / name).write_bytes(data)
        with pytest.raises(Unreadable):
            opened(tmp_path / name)
    with pytest.raises(Unreadable, match="no file"):
        read_facets(tmp_path / "not_there.stl")


def test_open_solids_come_in_as_sheets_and_inverted_ones_are_turned(tmp_path: Path) -> None:
    from OCP.BRep import BRep_Builder
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.BRepTools import BRepTools
    from OCP.TopoDS import TopoDS_Shell, TopoDS_Solid

    from kind_rivet.core.geometry.kernel.parts import parts_of

    box = BRepPrimAPI_MakeBox(10.0, 10.0, 10.0).Shape()
    builder, shell, solid = BRep_Builder(), TopoDS_Shell(), TopoDS_Solid()
    builder.MakeShell(shell)
    for face in parts_of(box, "face")[1:]:
        builder.Add(shell, face)
    builder.MakeSolid(solid)
    builder.Add(solid, shell)
    BRepTools.Write_s(solid, str(tmp_path / "open.brep"))
    d = opened(tmp_path / "open.brep")
    assert d.bodies[0].kind == "sheet"
    assert any("open along 4 edges" in n for n in d.notes)
    BRepTools.Write_s(box.Reversed(), str(tmp_path / "inverted.brep"))
    d = opened(tmp_path / "inverted.brep")
    assert d.bodies[0].shape.volume == pytest.approx(1000)
    assert any("inside out" in n for n in d.notes)


def test_the_same_body_twice_is_named(tmp_path: Path) -> None:
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.BRepTools import BRepTools

    from kind_rivet.core.geometry.kernel.parts import compound

    boxes = [BRepPrimAPI_MakeBox(10.0, 10.0, 10.0).Shape() for _ in range(2)]
    BRepTools.Write_s(compound(boxes), str(tmp_path / "twice.brep"))
    d = opened(tmp_path / "twice.brep")
    assert len(d.bodies) == 2
    assert any("the same body in the same place" in n for n in d.notes)

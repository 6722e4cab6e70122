"""Pieces of the window on their own: forms, selection, picking, camera, histogram, route, pulse, actions."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox

from kind_rivet.app.actions import ActionRegistry
from kind_rivet.app.kit.card import effect
from kind_rivet.app.kit.form import Form, NumberField
from kind_rivet.app.ledger.histogram import BARS, Histogram
from kind_rivet.app.pulse import pulse_of
from kind_rivet.app.route import figures
from kind_rivet.app.stage.dresser import STOPS, Look, _part_colours, dress
from kind_rivet.app.stage.picking import Picker
from kind_rivet.app.stage.scene import scale_colours, section_outline, solid_skin, thick_shells
from kind_rivet.app.stage.selection import Selection
from kind_rivet.app.stage.view import StageView
from kind_rivet.app.theme import number, rgb
from kind_rivet.core.document.document import Document, Section
from kind_rivet.core.operations import all_operations, perform

pytestmark = pytest.mark.window


def test_numbers_are_set_with_thin_spaces() -> None:
    assert number(1234567) == "1\u2009234\u2009567"
    assert number(3.14159, 3) == "3.14"
    assert rgb("#FF0080") == pytest.approx((1, 0, 128 / 255))


def test_number_fields_step_and_forgive(qapp: QApplication) -> None:
    field = NumberField(5.0)
    field.step(True)
    assert field.value() == 5.5
    field.setText("3,25")
    assert field.value() == 3.25
    field.setText("many")
    assert field.value() is None
    whole = NumberField(8, True)
    QTest.keyClick(whole, Qt.Key.Key_Down)
    assert whole.value() == 7
    assert isinstance(whole.value(), int)


def test_fields_show_what_nought_stands_for(qapp: QApplication) -> None:
    form = Form(all_operations()["mesh.shells"].parameters, set())
    field = form.fields["ring_width"]
    assert isinstance(field, NumberField)
    assert (field.text(), field.placeholderText(), field.value()) == ("", "chosen for each hole", 0)
    field.step(True)
    assert (field.text(), field.value()) == ("1", 1)
    field.set_value(0)
    assert field.text() == ""
    field.setText("0")
    assert field.value() == 0


def test_forms_follow_the_parameters(qapp: QApplication) -> None:
    op = all_operations()["mixed.layers"]
    form = Form(op.parameters, set(), choices={"material": ["Steel", "Aluminium"]})
    assert set(form.fields) == {"along", "height", "layers", "material"}  # element numbers come from the Stage
    assert form.values() == {"along": "normals", "height": 10.0, "layers": 2, "material": "Aluminium"}
    heard: list[int] = []
    form.edited.connect(lambda: heard.append(1))
    form.set_values({"height": -4.0, "along": "z"})
    assert not heard
    assert form.values()["height"] == -4
    combo = form.fields["material"]
    assert isinstance(combo, QComboBox)
    combo.setCurrentText("Steel")
    assert heard
    boxes = Form(all_operations()["prepare.leave_out_holes"].parameters, {"bodies"})
    box = boxes.fields["hard_points"]
    assert isinstance(box, QCheckBox)
    box.setChecked(True)
    assert boxes.values() == {"below": 5.0, "hard_points": True}


def test_every_operation_has_words() -> None:
    for op in all_operations().values():
        assert op.help, op.name
        assert op.title[0].isupper()
        for name, info in op.parameters.model_fields.items():
            assert info.title or name in ("body", "centre", "number", "hard_point", "node"), (op.name, name)


def test_selection_keeps_one_kind(qapp: QApplication) -> None:
    s = Selection()
    changes: list[int] = []
    s.changed.connect(lambda: changes.append(1))
    s.lens("edge")
    s.pick((1, 4), add=False, take=False)
    s.pick((1, 5), add=True, take=False)
    assert s.items == [(1, 4), (1, 5)]
    s.pick((1, 4), add=True, take=False)  # adding what is there takes it out
    assert s.items == [(1, 5)]
    s.pick((1, 5), add=False, take=True)
    assert s.items == []
    assert s.words() == "Nothing chosen"
    s.lens("body")
    s.pick(1, add=False, take=False)
    s.pick(2, add=True, take=False)
    assert s.words() == "2 bodies chosen"
    assert len(changes) == 8


@pytest.fixture
def stage(qapp: QApplication):  # type: ignore[no-untyped-def]
    view = StageView(Selection())
    view.resize(800, 600)
    view.show()
    yield view
    view.shut()


def show(stage: StageView, document: Document, look: Look, view: str = "top") -> Picker:
    dressed = dress(document, look, False, stage.selection)
    stage.show_actors(dressed.actors, dressed.lines, dressed.box)
    stage.picker = Picker(document, dressed.shows_mesh, dressed.shows_sheets)
    stage.look(view)
    QApplication.processEvents()
    stage.grab()
    return stage.picker


def test_pixels_and_rays_fit_together(stage: StageView, tray: Document) -> None:
    show(stage, tray, Look("part"), "oblique")
    points = np.array([(0, 0, 0), (420, 180, 45), (210, 90, 1.5)], float)
    pixels, _ = stage.camera.to_pixels(points)
    for point, pixel in zip(points, pixels, strict=True):
        origin, direction = stage.camera.ray(*pixel)
        away = point - origin
        assert np.linalg.norm(away - (away @ direction) * direction) < 1e-6 * np.linalg.norm(away)
    before = stage.camera.to_pixels(points[:1])[0][0]
    stage.camera.zoom(2.0, *before)
    assert np.allclose(stage.camera.to_pixels(points[:1])[0][0], before, atol=1e-6)
    stage.camera.shift(15, -7)
    assert np.allclose(stage.camera.to_pixels(points[:1])[0][0], before + (15, -7), atol=1e-6)


def test_picking_finds_what_is_there(stage: StageView, tray: Document, tray_mesh: Document) -> None:
    picker = show(stage, tray, Look("part"))
    spot = stage.camera.to_pixels(np.array([[210.0, 20.0, 1.5]]))[0][0]
    body, face = picker.pick(stage.camera, "face", *spot)
    assert body == 1
    assert tray.bodies[0].shape.faces[face].carrier.kind == "plane"
    assert picker.pick(stage.camera, "body", *spot) == 1
    hole = stage.camera.to_pixels(np.array([[70.0, 90.0, 1.5]]))[0][0]
    _, k = picker.pick(stage.camera, "hole", *hole)
    assert tray.bodies[0].holes[k].diameter == pytest.approx(36)
    assert picker.pick(stage.camera, "face", 2, 2) is None
    picker = show(stage, tray_mesh, Look("mesh"))
    element = picker.pick(stage.camera, "element", *spot)
    centre = tray_mesh.mesh.centres()[tray_mesh.mesh.element_id == element][0]
    assert np.linalg.norm(centre[:2] - (210, 20)) < 10
    target = np.flatnonzero(np.abs(tray_mesh.mesh.points[:, 2] - 0.75) < 1e-9)[50]
    at = stage.camera.to_pixels(tray_mesh.mesh.points[[target]])[0][0]
    assert picker.pick(stage.camera, "node", *at) == tray_mesh.mesh.node_id[target]
    shape = tray_mesh.sheets[1].shape
    edge = int(np.argmax(shape.edge_length))
    middle = stage.camera.to_pixels(shape.points[[shape.edges[edge].nodes[len(shape.edges[edge].nodes) // 2]]])[0][0]
    assert picker.pick(stage.camera, "edge", *middle) is not None
    inside = picker.box(stage.camera, "node", 0, 0, 800, 600)
    assert len(inside) == tray_mesh.mesh.nodes
    some = picker.box(stage.camera, "element", 300, 200, 500, 400)
    assert 0 < len(some) < tray_mesh.mesh.elements


@pytest.mark.parametrize("stop", STOPS)
@pytest.mark.parametrize("style", ["shaded", "see-through", "thick"])
def test_every_stop_can_be_dressed(stage: StageView, mixed: Document, stop: str, style: str) -> None:
    for colour in ("part", "index", "thickness", "warp"):
        dressed = dress(mixed, Look(stop, colour, style), False, stage.selection)
        assert dressed.actors
        assert dressed.box is not None
    show(stage, mixed, Look(stop, "part", style), "oblique")
    image = stage.grab().toImage()
    colours = {image.pixel(x, y) for x in range(0, image.width(), 7) for y in range(0, image.height(), 7)}
    assert len(colours) > 20  # something is drawn


def test_turning_the_view_with_the_mouse(stage: StageView, tray: Document) -> None:
    show(stage, tray, Look("part"))
    before = stage.camera.vtk.GetDirectionOfProjection()
    QTest.mousePress(stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(20, 20))
    QTest.mouseMove(stage, QPoint(60, 50))
    QTest.mouseMove(stage, QPoint(120, 90))
    QTest.mouseRelease(stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(120, 90))
    assert stage.camera.vtk.GetDirectionOfProjection() != before


def test_thick_shells_enclose_the_volume(tray_mesh: Document) -> None:
    data = thick_shells(tray_mesh.mesh)
    from vtkmodules.vtkFiltersCore import vtkMassProperties, vtkTriangleFilter

    triangles = vtkTriangleFilter()
    triangles.SetInputData(data)
    mass = vtkMassProperties()
    mass.SetInputConnection(triangles.GetOutputPort())
    assert mass.GetVolume() == pytest.approx(tray_mesh.bodies[0].shape.volume, rel=0.03)


def test_skin_of_layers_is_closed(mixed: Document) -> None:
    cells, owner = solid_skin(mixed.mesh)
    sides: dict[tuple[int, int], int] = {}
    for lot in cells:
        for row in lot.tolist():
            for a, b in zip(row, row[1:] + row[:1], strict=True):
                sides[(min(a, b), max(a, b))] = sides.get((min(a, b), max(a, b)), 0) + 1
    assert set(sides.values()) == {2}
    assert len(owner) == sum(map(len, cells))


def test_scales_and_outlines() -> None:
    colours = scale_colours(np.array([0.0, 0.5, 1.0]), 0, 1)
    assert np.all(np.diff(colours.sum(axis=1)) < 0)  # pale to deep, one hue
    assert np.allclose(np.linalg.norm(section_outline(Section("tube", (10.0, 1.0))), axis=1), 5)
    assert np.ptp(section_outline(Section("box", (10.0, 6.0, 1.0))), axis=0).tolist() == [10, 6]


def test_histogram_bars_choose_their_range(qapp: QApplication) -> None:
    h = Histogram()
    h.resize(450, 120)
    h.show_index(np.array([-1.0, -0.33, 0.2, 0.99, 1.0, np.nan]))
    assert h.counts.sum() == 5
    heard: list[tuple[float, float]] = []
    h.chosen.connect(lambda a, b: heard.append((a, b)))
    width = (h.width() - 50) / BARS
    QTest.mouseClick(h, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, QPoint(int(30 + 19.5 * width), 60))
    assert heard == [(pytest.approx(0.9), pytest.approx(1.0))]


def test_route_and_pulse_tell_the_truth(tray: Document, tray_sheet: Document, mixed: Document) -> None:
    empty = figures(Document())
    assert {mark for mark, _ in empty.values()} == {"nothing"}
    assert pulse_of(Document(), None) == "Nothing is open yet."
    assert figures(tray)["part"] == ("done", "1 body")
    full = figures(mixed)
    assert full["midsurface"] == ("done", "9 walls, 1.5 mm")
    stepped = replace(tray_sheet.sheets[1], thickness=np.linspace(1.4, 2.4, 9))
    assert figures(replace(tray_sheet, sheets={1: stepped}))["midsurface"][1] == "9 walls, 1.4–2.4 mm"
    bare = replace(tray_sheet.sheets[1], thickness=np.zeros(9))
    assert figures(replace(tray_sheet, sheets={1: bare}))["midsurface"][1] == "9 walls, no thickness"
    assert "3 spiders" in full["mixed"][1]
    assert f"{len(mixed.sets)} sets" in full["deliver"][1]
    words = pulse_of(mixed, None)
    assert "1 body" in words
    assert "stale" not in words
    changed = perform(mixed, "prepare.leave_out_holes", {"below": 5.0})
    assert figures(changed)["mesh"][0] == "stale"
    assert "stale" in pulse_of(changed, None)
    assert "proposal" in pulse_of(tray, mixed)


def test_effect_is_told_in_numbers(tray_sheet: Document, tray_mesh: Document) -> None:
    words = effect(tray_sheet, tray_mesh)
    assert "Elements 0 →" in words
    assert "failing" in words


def test_the_finder_looks_into_titles_and_tips() -> None:
    registry = ActionRegistry()
    registry.add("a", "Fit the view", "Show everything", lambda: None)
    registry.add("b", "Undo", "One step back to fit what you had", lambda: None)
    assert [x.name for x in registry.find("fit")] == ["a", "b"]
    assert registry.find("nothing like it") == []


def test_elements_have_the_colour_of_their_part(qapp: QApplication, mixed: Document) -> None:
    """Many elements are coloured at once; what belongs to no part gets the quiet colour."""
    elements = np.arange(mixed.mesh.elements)
    tints = _part_colours(mixed, elements)
    assert tints.shape == (mixed.mesh.elements, 3)
    for part in mixed.parts:
        mine = mixed.mesh.part == part.key
        assert mine.any()
        assert np.allclose(tints[mine], rgb(part.colour))
    strays = replace(mixed, parts=())
    assert np.allclose(_part_colours(strays, elements[:5]), rgb("#9AA9AD"))
    assert _part_colours(mixed, elements[:0]).shape == (0, 3)

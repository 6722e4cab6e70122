"""Reading B-rep files: STEP, IGES and BREP with solids, sheets and wires, names, colours and units.

The kernel may crash or hang on damaged files, so these functions are meant to run in a
process that can be killed (`kind_rivet.core.guard`); everything they return is arrays.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_rivet.core.errors import Refused, Unreadable
from kind_rivet.core.geometry.kernel.closing import HAIRS, is_skin, sewn
from kind_rivet.core.geometry.kernel.facets import facet_shape, to_bytes
from kind_rivet.core.geometry.kernel.parts import compound, parts_of
from kind_rivet.core.geometry.shape import Shape

MOST_LOOSE = 3000  # sheets up to which it is tried whether they close together

Piece = tuple[str, str, str, Any]  # name, colour, kind, shape

STEP, IGES, BREP = (".step", ".stp"), (".iges", ".igs"), (".brep", ".brp")


@dataclass(frozen=True)
class ReadBody:
    """One body as it came from the file: `kind` is solid, sheet or wire, `brep` the kernel's bytes."""

    name: str
    colour: str
    kind: str
    shape: Shape
    brep: NDArray[np.uint8]


@dataclass(frozen=True)
class ReadResult:
    bodies: tuple[ReadBody, ...]
    file_unit: str
    warnings: tuple[str, ...]


def look_at_text(path: Path) -> None:
    """Refuse what is plainly no complete file of its kind before the kernel sees it.

    Raises `Unreadable` for a missing file, a folder, an empty file, another format
    or a file that ends before its closing section.
    """
    if not path.exists():
        raise Unreadable(f"There is no file {path}.", "Check the name and the folder.")
    if path.is_dir():
        raise Unreadable(f"{path} is a folder, not a file.", "Choose a file inside it.")
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            head = file.read(4096)
            file.seek(max(0, size - 4096))
            tail = file.read()
    except OSError as error:
        raise Unreadable(f"{path.name} cannot be read ({error.strerror}).", "Check the permissions of the file.") from error
    if not head.strip():
        raise Unreadable(f"{path.name} is empty.", "Export the part from the CAD system again.")
    if path.suffix.lower() in IGES:
        if len(head) < 73 or head[72:73] not in (b"S", b"C", b"B"):
            raise Unreadable(f"{path.name} is not an IGES file: its first line is no start section.", "Export the part as STEP or IGES.")
        if not any(line[72:73] == b"T" for line in tail.splitlines()):
            raise Unreadable(f"{path.name} ends in the middle: its last section is missing.", "Copy or export the file again.")
        return
    if path.suffix.lower() in BREP:
        if b"CASCADE Topology" not in head and b"DBRep_DrawableShape" not in head:
            raise Unreadable(f"{path.name} is not a BREP file: its head does not say so.", "Export the part as STEP.")
        return
    if b"ISO-10303-21" not in head:
        raise Unreadable(
            f"{path.name} is not a STEP file: its first line does not say ISO-10303-21.", "Export the part as STEP (AP203, AP214 or AP242)."
        )
    if b"END-ISO-10303-21" not in tail:
        raise Unreadable(f"{path.name} ends in the middle: its closing line is missing.", "Copy or export the file again.")


def read_geometry(path: Path) -> ReadResult:
    """Bodies of a STEP, IGES or BREP file in millimetres with names and colours. Raises `Unreadable` with the reason."""
    look_at_text(path)
    suffix = path.suffix.lower()
    if suffix in BREP:
        warnings: list[str] = []
        found, unit_name = [(path.stem, "", _read_brep(path))], "millimetre"
    elif suffix in IGES:
        found, unit_name, warnings = _read_iges(path)
    else:
        found, unit_name, warnings = _read_step(path)
    pieces = [(_usable(name) or path.stem, colour, kind, piece) for name, colour, shape in found for kind, piece in _pieces(shape)]
    pieces, closed = _closed(pieces, path.stem)
    warnings += closed
    if not pieces:
        raise Unreadable(f"{path.name} holds no solid, sheet or wire.", "Export the part as a solid, not as a drawing.")
    bodies: list[ReadBody] = []
    for name, colour, kind, piece in _numbered(pieces):
        try:
            bodies.append(_body(name, colour, kind, piece, warnings))
        except Refused as refused:
            warnings.append(f"{name} was left out: {refused.reason}")
    if not bodies:
        raise Unreadable(
            f"{path.name} holds nothing usable. {' '.join(warnings[:2])}", "Repair the part in the CAD system and export it again."
        )
    _warn_of_twins(bodies, warnings)
    return ReadResult(tuple(bodies), unit_name.lower(), tuple(warnings))


def _closed(pieces: list[Piece], name: str) -> tuple[list[Piece], list[str]]:
    """Where a file holds nothing but faces, and they are the skin of a thin part: that part, and a sentence about it."""
    if not 0 < len(pieces) <= MOST_LOOSE or any(kind != "sheet" for _, _, kind, _ in pieces):
        return pieces, []
    faces = [piece for *_, piece in pieces]
    diagonal = _diagonal(faces)
    solid, closes = sewn(faces, HAIRS[1] * diagonal)
    if not closes or not is_skin(solid, diagonal):
        return pieces, []
    names, colours = {one for one, *_ in pieces}, {colour for _, colour, *_ in pieces}
    own = names.pop() if len(names) == 1 else name
    sentence = f"{own}: its {sum(len(parts_of(face, 'face')) for face in faces)} faces close, so they came in as one solid."
    return [(own, colours.pop() if len(colours) == 1 else "", "solid", solid)], [sentence]


def _diagonal(shapes: list[Any]) -> float:
    from OCP.Bnd import Bnd_Box
    from OCP.BRepBndLib import BRepBndLib

    box = Bnd_Box()
    for shape in shapes:
        BRepBndLib.AddOptimal_s(shape, box, False, False)
    return float(box.SquareExtent()) ** 0.5


def _usable(name: str) -> str:
    """The name, unless a translator has put its own there."""
    return "" if "STEP translator" in name or name.upper() in ("COMPOUND", "SOLID", "SHELL", "FACE", "WIRE", "EDGE") else name


def _body(name: str, colour: str, kind: str, piece: Any, warnings: list[str]) -> ReadBody:
    """One body with its facets; open solids become sheets, inside-out ones are turned."""
    shape = facet_shape(piece, solid=kind == "solid")
    if kind == "wire":
        if not shape.edges:
            raise Refused("it has no length.", "")
        return ReadBody(name, colour, kind, shape, to_bytes(piece))
    if not len(shape.facets) or shape.face_area.sum() < 1e-12 * shape.diagonal**2:
        raise Refused("its faces have no area.", "")
    empty = int((shape.face_area <= 0).sum())
    if empty:
        warnings.append(f"{name}: {empty} of its faces cannot be shown; look them over in Prepare.")
    if kind == "solid":
        open_edges = sum(1 for faces in shape.edge_faces if len(faces) == 1)
        healed = _without_gaps(piece, shape) if open_edges else None
        if healed is not None:
            piece, shape = healed
            warnings.append(f"{name}: this solid had hairline gaps along {open_edges} edges, which were closed.")
        elif open_edges:
            warnings.append(f"{name}: this solid is open along {open_edges} edges, so it came in as a sheet. Stitch it in Prepare.")
            kind, shape = "sheet", replace(shape, solid=False)
        elif shape.volume < -1e-12 * shape.diagonal**3:
            warnings.append(f"{name}: this solid was inside out and has been turned.")
            piece = piece.Reversed()
            shape = facet_shape(piece)
        elif shape.volume <= 1e-12 * shape.diagonal**3:
            raise Refused("it encloses no volume.", "")
    loose = _loosest_vertex(piece)
    if loose > 1e-4 * shape.diagonal:
        warnings.append(f"{name}: corners are loose by up to {loose:.3g} mm; edges there may not close.")
    return ReadBody(name, colour, kind, shape, to_bytes(piece))


def _without_gaps(piece: Any, shape: Shape) -> tuple[Any, Shape] | None:
    """An open solid and its facets after its faces were sewn again, where hairs are all that keeps them from closing."""
    for hair in HAIRS:
        solid, closes = sewn([piece], hair * shape.diagonal)
        if not closes:
            continue
        closed = facet_shape(solid)
        if closed.volume > 0 and all(len(faces) > 1 for faces in closed.edge_faces):
            return solid, closed
    return None


def _loosest_vertex(shape: Any) -> float:
    from OCP.ShapeAnalysis import ShapeAnalysis_ShapeTolerance
    from OCP.TopAbs import TopAbs_VERTEX

    return float(ShapeAnalysis_ShapeTolerance().Tolerance(shape, 1, TopAbs_VERTEX))


def _warn_of_twins(bodies: list[ReadBody], warnings: list[str]) -> None:
    """Two bodies of one shape in one place are a mistake of the file more often than not."""
    for k, b in enumerate(bodies):
        for a in bodies[:k]:
            same_box = a.shape.diagonal > 0 and np.abs(a.shape.box - b.shape.box).max() < 1e-6 * a.shape.diagonal
            if (
                same_box
                and len(a.shape.faces) == len(b.shape.faces)
                and abs(a.shape.face_area.sum() - b.shape.face_area.sum()) < 1e-6 * a.shape.diagonal**2
            ):
                warnings.append(f"{a.name} and {b.name} are the same body in the same place; remove one in Contents.")
                break


def _numbered(pieces: list[Piece]) -> list[Piece]:
    """Names told apart by numbers where several bodies share one."""
    counts: dict[str, int] = {}
    for name, *_ in pieces:
        counts[name] = counts.get(name, 0) + 1
    seen: dict[str, int] = {}
    out = []
    for name, colour, kind, piece in pieces:
        if counts[name] > 1:
            seen[name] = seen.get(name, 0) + 1
            name = f"{name} {seen[name]}"
        out.append((name, colour, kind, piece))
    return out


def _pieces(shape: Any) -> list[tuple[str, Any]]:
    """Solids, sheets outside solids and wires outside sheets of a shape."""

    def as_one(kind: str, loose: list[Any]) -> list[tuple[str, Any]]:
        return [(kind, loose[0] if len(loose) == 1 else compound(loose))] if loose else []

    out = [("solid", s) for s in parts_of(shape, "solid")]
    out += [("sheet", s) for s in parts_of(shape, "shell", outside="solid")]
    out += as_one("sheet", parts_of(shape, "face", outside="shell"))
    out += [("wire", w) for w in parts_of(shape, "wire", outside="face")]
    return out + as_one("wire", parts_of(shape, "edge", outside="wire"))


def _silence() -> None:
    from OCP.Message import Message, Message_Gravity

    for printer in Message.DefaultMessenger_s().Printers():
        printer.SetTraceLevel(Message_Gravity.Message_Fail)


def _new_document() -> Any:
    from OCP.TCollection import TCollection_ExtendedString
    from OCP.TDocStd import TDocStd_Document
    from OCP.XCAFApp import XCAFApp_Application

    app = XCAFApp_Application.GetApplication_s()
    document = TDocStd_Document(TCollection_ExtendedString("MDTV-XCAF"))
    app.NewDocument(TCollection_ExtendedString("MDTV-XCAF"), document)
    return document


def _read_step(path: Path) -> tuple[list[tuple[str, str, Any]], str, list[str]]:
    from OCP.collections import Sequence_TCollection_AsciiString
    from OCP.Interface import Interface_Static
    from OCP.STEPCAFControl import STEPCAFControl_Reader
    from OCP.STEPControl import STEPControl_Controller

    STEPControl_Controller.Init_s()
    Interface_Static.SetIVal_s("read.stepcaf.subshapes.name", 1)
    reader = STEPCAFControl_Reader()
    tree = _transferred(reader, reader.ChangeReader(), path, "STEP")
    lengths, angles, solid_angles = (Sequence_TCollection_AsciiString() for _ in range(3))
    reader.ChangeReader().FileUnits(lengths, angles, solid_angles)
    return tree, lengths.Value(1).ToCString() if lengths.Length() else "millimetre", []


def _read_iges(path: Path) -> tuple[list[tuple[str, str, Any]], str, list[str]]:
    from OCP.IGESCAFControl import IGESCAFControl_Reader
    from OCP.IGESControl import IGESControl_Controller
    from OCP.Interface import Interface_Static

    IGESControl_Controller.Init_s()
    Interface_Static.SetIVal_s("read.iges.bspline.continuity", 2)
    reader = IGESCAFControl_Reader()
    tree = [(name, colour, _sewn_if_loose(shape)) for name, colour, shape in _transferred(reader, reader, path, "IGES")]
    return tree, "millimetre", ["IGES keeps no assembly, and faces missing from it cannot be noticed: compare with the drawing."]


def _transferred(reader: Any, model: Any, path: Path, format_: str) -> list[tuple[str, str, Any]]:
    """Name, colour and shape of everything in a file; `model` is what knows the file's entries. Raises `Unreadable`."""
    from OCP.IFSelect import IFSelect_RetDone

    _silence()
    document = _new_document()
    reader.SetColorMode(True)
    reader.SetNameMode(True)
    if reader.ReadFile(str(path)) != IFSelect_RetDone:
        raise Unreadable(f"{path.name} cannot be read as {format_}: its contents do not follow the format.", "Export the part again.")
    fails = _model_faults(model)
    if fails:
        raise Unreadable(f"{path.name} is damaged: {fails} of its entries are faulty.", "Export the part again.")
    if not reader.Transfer(document):
        raise Unreadable(f"{path.name} holds nothing that can be turned into geometry.", "Export the part as a solid.")
    return _tree(document)


def _sewn_if_loose(shape: Any) -> Any:
    """IGES writes faces one by one: sewn where they fit, and closed to a solid where they close."""
    if parts_of(shape, "solid") or not parts_of(shape, "face"):
        return shape
    return sewn([shape], 1e-4)[0]


def _read_brep(path: Path) -> Any:
    from OCP.BinTools import BinTools
    from OCP.BRep import BRep_Builder
    from OCP.BRepTools import BRepTools
    from OCP.TopoDS import TopoDS_Shape

    _silence()
    shape = TopoDS_Shape()
    binary = b"Open CASCADE Topology" in path.read_bytes()[:200]
    good = BinTools.Read_s(shape, str(path)) if binary else BRepTools.Read_s(shape, str(path), BRep_Builder())
    if not good or shape.IsNull():
        raise Unreadable(f"{path.name} cannot be read as BREP: its contents do not follow the format.", "Export the part as STEP.")
    return shape


def _model_faults(reader: Any) -> int:
    """Entries the kernel's model check calls faulty; healthy files have none."""
    checks = reader.WS().ModelCheckList()
    total = 0
    checks.Start()
    while checks.More():
        total += checks.Value().NbFails()
        checks.Next()
    return total


def _tree(document: Any) -> list[tuple[str, str, Any]]:
    """Name, colour and located shape of every leaf of the document tree."""
    from OCP.collections import Sequence_TDF_Label
    from OCP.TDF import TDF_Label
    from OCP.TopLoc import TopLoc_Location
    from OCP.XCAFDoc import XCAFDoc_DocumentTool, XCAFDoc_ShapeTool

    tool = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    out: list[tuple[str, str, Any]] = []

    def walk(label: Any, where: Any, name: str, colour: str) -> None:
        own = _label_name(label) or name
        mine = _label_colour(document, label) or colour
        if XCAFDoc_ShapeTool.IsReference_s(label):
            target = TDF_Label()
            XCAFDoc_ShapeTool.GetReferredShape_s(label, target)
            walk(target, where.Multiplied(XCAFDoc_ShapeTool.GetLocation_s(label)), own, mine)
        elif XCAFDoc_ShapeTool.IsAssembly_s(label):
            parts = Sequence_TDF_Label()
            XCAFDoc_ShapeTool.GetComponents_s(label, parts)
            for i in range(1, parts.Length() + 1):
                walk(parts.Value(i), where, own, mine)
        else:
            out.append((own, mine, XCAFDoc_ShapeTool.GetShape_s(label).Moved(where)))

    roots = Sequence_TDF_Label()
    tool.GetFreeShapes(roots)
    for i in range(1, roots.Length() + 1):
        walk(roots.Value(i), TopLoc_Location(), "", "")
    return out


def _label_name(label: Any) -> str:
    from OCP.TDataStd import TDataStd_Name

    identity = TDataStd_Name.GetID_s()
    if not label.IsAttribute(identity):  # FindAttribute crashes when it is absent
        return ""
    attribute = TDataStd_Name()
    label.FindAttribute(identity, attribute)
    return str(attribute.Get().ToExtString())


def _label_colour(document: Any, label: Any) -> str:
    from OCP.Quantity import Quantity_Color
    from OCP.XCAFDoc import XCAFDoc_ColorTool, XCAFDoc_ColorType

    colour = Quantity_Color()
    for kind in (XCAFDoc_ColorType.XCAFDoc_ColorSurf, XCAFDoc_ColorType.XCAFDoc_ColorGen):
        if XCAFDoc_ColorTool.GetColor_s(label, kind, colour):
            linear = np.array([colour.Red(), colour.Green(), colour.Blue()])
            srgb = np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055)
            return "#" + "".join(f"{round(float(c) * 255):02X}" for c in np.clip(srgb, 0, 1))
    return ""

"""Exodus II (netCDF-4): blocks by part and kind, node and element sets, number maps.

Layout after Schoof and Yarberry, "EXODUS II: A finite element data model" (SAND92-2137).
Element sets are also written as side sets (side 1), since many readers skip them. What
the format has no place for is kept in the info records as JSON.
"""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path
from typing import Any

import netCDF4
import numpy as np

from kind_rivet import __version__
from kind_rivet.core.document.document import PART_KINDS, EntitySet, LumpedMass, Part, Section, Spider
from kind_rivet.core.errors import Refused, Unreadable
from kind_rivet.core.files.exchange import Exchange, node_lookup
from kind_rivet.core.files.foreign import as_read, block_kind
from kind_rivet.core.mesh.kinds import KINDS, WIDTH
from kind_rivet.core.mesh.mesh import Mesh

NAME_LENGTH, LINE_LENGTH = 80, 80
PLACES = ("on_kind", "on_item", "on_body", "height")


def _text(value: str, length: int) -> np.ndarray:
    return np.frombuffer(value.encode("ascii", "replace")[:length].ljust(length + 1, b"\0"), "S1")


def write_exodus(exchange: Exchange, path: Path) -> None:
    """Write an Exodus II file. Raises `Refused` when the place cannot be written."""
    try:
        file = netCDF4.Dataset(str(path), "w", format="NETCDF4")
    except OSError as error:
        raise Refused(f"{path} cannot be written ({error.strerror or 'no access'}).", "Choose a folder you may write to.") from error
    with file:
        _write(exchange, file)


def _write(exchange: Exchange, file: Any) -> None:
    mesh = exchange.mesh
    lookup = node_lookup(mesh)
    blocks: list[tuple[str, str, np.ndarray, np.ndarray, np.ndarray | None]] = []  # name, type, conn, ids, attributes
    names = {p.key: p.name for p in exchange.parts}
    for part in np.unique(mesh.part):
        for code in np.unique(mesh.kind[mesh.part == part]):
            rows = np.flatnonzero((mesh.part == part) & (mesh.kind == code))
            kind = KINDS[code]
            attributes = (
                np.column_stack((mesh.thickness[rows], mesh.offset[rows], mesh.body[rows], mesh.face[rows], mesh.ring[rows]))
                if kind.dimension == 2
                else None
            )
            blocks.append(
                (
                    f"{names.get(int(part), f'part {part}')} {kind.name}",
                    kind.exodus,
                    mesh.conn[rows, : kind.nodes],
                    mesh.element_id[rows],
                    attributes,
                )
            )
    element_order = np.concatenate([b[3] for b in blocks]) if blocks else np.empty(0, np.int32)
    spare = int(mesh.element_id.max(initial=0)) + 1
    for spider in exchange.spiders:
        legs = np.array([(lookup[spider.centre], lookup[int(n)]) for n in spider.nodes], np.int64)
        blocks.append((spider.name, "BAR2", legs, np.arange(spare, spare + len(legs)), None))
        spare += len(legs)
    if exchange.masses:
        at = np.array([[lookup[m.node]] for m in exchange.masses])
        blocks.append(("lumped masses", "SPHERE", at, np.arange(spare, spare + len(at)), np.array([[m.mass] for m in exchange.masses])))
    node_sets = [s for s in exchange.sets if s.kind == "node"]
    element_sets = [s for s in exchange.sets if s.kind == "element"]
    total = sum(len(b[2]) for b in blocks)
    file.api_version = np.float32(8.03)
    file.version = np.float32(8.03)
    file.floating_point_word_size = np.int32(8)
    file.file_size = np.int32(1)
    file.maximum_name_length = np.int32(NAME_LENGTH)
    file.int64_status = np.int32(0)
    file.title = f"{exchange.title} by Kind Rivet {__version__}"[:80]
    records = _records(exchange)
    dims = {
        "len_string": 33, "len_line": LINE_LENGTH + 1, "four": 4, "len_name": NAME_LENGTH + 1, "num_dim": 3, "num_nodes": mesh.nodes, "num_elem": total, "num_el_blk": len(blocks),
        "num_node_sets": len(node_sets), "num_elem_sets": len(element_sets), "num_side_sets": len(element_sets), "num_qa_rec": 1, "num_info": len(records),
    }  # fmt: skip
    for name, size in dims.items():
        if size:
            file.createDimension(name, size)
    file.createDimension("time_step", None)
    file.createVariable("time_whole", "f8", ("time_step",))
    for k, axis in enumerate("xyz"):
        file.createVariable(f"coord{axis}", "f8", ("num_nodes",))[:] = mesh.points[:, k]
    coordinate_names = file.createVariable("coor_names", "S1", ("num_dim", "len_name"))
    for k, axis in enumerate("xyz"):
        coordinate_names[k] = _text(axis, NAME_LENGTH)
    file.createVariable("node_num_map", "i4", ("num_nodes",))[:] = mesh.node_id
    if total:
        file.createVariable("elem_num_map", "i4", ("num_elem",))[:] = np.concatenate([b[3] for b in blocks])
        _names(file, "eb", "num_el_blk", [b[0] for b in blocks])
    for k, (_, type_name, conn, _, attributes) in enumerate(blocks, 1):
        file.createDimension(f"num_el_in_blk{k}", len(conn))
        file.createDimension(f"num_nod_per_el{k}", conn.shape[1])
        connect = file.createVariable(f"connect{k}", "i4", (f"num_el_in_blk{k}", f"num_nod_per_el{k}"))
        connect.elem_type = type_name
        connect[:] = conn + 1
        if attributes is not None:
            file.createDimension(f"num_att_in_blk{k}", attributes.shape[1])
            file.createVariable(f"attrib{k}", "f8", (f"num_el_in_blk{k}", f"num_att_in_blk{k}"))[:] = attributes
            labels = file.createVariable(f"attrib_name{k}", "S1", (f"num_att_in_blk{k}", "len_name"))
            for i, label in enumerate(("thickness", "offset", "body", "face", "ring") if attributes.shape[1] == 5 else ("mass",)):
                labels[i] = _text(label, NAME_LENGTH)
    if node_sets:
        _names(file, "ns", "num_node_sets", [s.name for s in node_sets], [len(s.ids) for s in node_sets])
        for k, s in enumerate(node_sets, 1):
            members = np.array([lookup[int(n)] for n in s.ids if int(n) in lookup], np.int64)
            if len(members):
                file.createDimension(f"num_nod_ns{k}", len(members))
                file.createVariable(f"node_ns{k}", "i4", (f"num_nod_ns{k}",))[:] = members + 1
                file.createVariable(f"dist_fact_ns{k}", "f8", (f"num_nod_ns{k}",))[:] = 1.0
    if element_sets:
        place = {int(e): i + 1 for i, e in enumerate(element_order)}
        _names(file, "els", "num_elem_sets", [s.name for s in element_sets], [len(s.ids) for s in element_sets])
        _names(file, "ss", "num_side_sets", [s.name for s in element_sets], [len(s.ids) for s in element_sets])
        for k, s in enumerate(element_sets, 1):
            numbers = np.array([place[int(e)] for e in s.ids if int(e) in place], np.int64)
            if len(numbers):
                file.createDimension(f"num_ele_els{k}", len(numbers))
                file.createVariable(f"elem_els{k}", "i4", (f"num_ele_els{k}",))[:] = numbers
                file.createDimension(f"num_side_ss{k}", len(numbers))
                file.createVariable(f"elem_ss{k}", "i4", (f"num_side_ss{k}",))[:] = numbers
                file.createVariable(f"side_ss{k}", "i4", (f"num_side_ss{k}",))[:] = 1
    qa = file.createVariable("qa_records", "S1", ("num_qa_rec", "four", "len_string"))
    for i, word in enumerate(("Kind Rivet", __version__, "", "")):
        qa[0, i] = _text(word, 32)
    info = file.createVariable("info_records", "S1", ("num_info", "len_line"))
    for i, line in enumerate(records):
        info[i] = _text(line, LINE_LENGTH)


def _names(file: Any, prefix: str, dimension: str, names: list[str], sizes: list[int] | None = None) -> None:
    status = [1] * len(names) if sizes is None else [int(n > 0) for n in sizes]
    file.createVariable(f"{prefix}_status", "i4", (dimension,))[:] = status
    numbers = file.createVariable(f"{prefix}_prop1", "i4", (dimension,))
    numbers.setncattr("name", "ID")
    numbers[:] = np.arange(1, len(names) + 1)
    text = file.createVariable(f"{prefix}_names", "S1", (dimension, "len_name"))
    seen: dict[str, int] = {}
    for k, name in enumerate(names):
        seen[name] = seen.get(name, 0) + 1
        text[k] = _text(name if seen[name] == 1 else f"{name} {seen[name]}", NAME_LENGTH)


def _records(exchange: Exchange) -> list[str]:
    """JSON of what Exodus has no place for, cut into lines."""
    text = json.dumps({
        "title": exchange.title, "parts": [asdict(p) for p in exchange.parts], "spiders": [{"name": s.name, "centre": s.centre, "hole": s.hole} for s in exchange.spiders],
        "colours": {s.name: s.colour for s in exchange.sets}, "set_order": [s.name for s in exchange.sets],
        "on": {name: getattr(exchange.mesh, name).tolist() for name in PLACES} if exchange.mesh.nodes <= 20000 else {},
    }, ensure_ascii=True, separators=(",", ":"))  # fmt: skip
    return ["kind-rivet json", *(text[i : i + LINE_LENGTH] for i in range(0, len(text), LINE_LENGTH))]


def read_exodus(path: Path) -> Exchange:
    """Read an Exodus II file: ours completely, others as plain meshes with sets. Raises `Unreadable`."""
    if not path.is_file():
        raise Unreadable(f"There is no file {path}.", "Check the name and the folder.")
    try:
        file = netCDF4.Dataset(str(path), "r")
    except OSError as error:
        raise Unreadable(f"{path.name} is not an Exodus II file.", "Choose another file.") from error
    with file:
        file.set_auto_mask(False)
        if "num_nodes" not in file.dimensions:
            raise Unreadable(f"{path.name} holds no nodes.", "Choose a file with a mesh.")
        return _read(file, path.stem)


def _string(row: np.ndarray) -> str:
    return b"".join(row.tolist()).split(b"\0")[0].decode("ascii", "replace")


def _read(file: Any, stem: str) -> Exchange:
    var = file.variables
    n = len(file.dimensions["num_nodes"])
    points = np.column_stack([var[f"coord{a}"][:] if f"coord{a}" in var else np.zeros(n) for a in "xyz"])
    node_id = var["node_num_map"][:].astype(np.int32) if "node_num_map" in var else np.arange(1, n + 1, dtype=np.int32)
    about: dict[str, Any] = {}
    if "info_records" in var:
        lines = [_string(r) for r in var["info_records"][:]]
        if lines and lines[0] == "kind-rivet json":
            about = json.loads("".join(lines[1:]))
    parts = tuple(
        Part(**{**p, "section": Section(p["section"]["shape"], tuple(p["section"]["measures"])) if p.get("section") else None})
        for p in about.get("parts", [])
    )
    by_name = {_string(_text(f"{p.name} {k.name}", NAME_LENGTH)): p.key for p in parts for k in KINDS}
    spider_names = {s["name"]: s for s in about.get("spiders", [])}
    count = len(file.dimensions["num_el_blk"]) if "num_el_blk" in file.dimensions else 0
    names = [_string(r) for r in var["eb_names"][:]] if "eb_names" in var else [f"block {k}" for k in range(1, count + 1)]
    numbers = var["elem_num_map"][:] if "elem_num_map" in var else None
    rows: dict[str, list[np.ndarray]] = {
        name: [] for name in ("kind", "conn", "element_id", "part", "thickness", "offset", "body", "face", "ring")
    }
    spiders, masses, first, order = [], [], 0, []
    made_parts = list(parts)
    left_out, had = 0, np.zeros(n, bool)
    for k in range(1, count + 1):
        conn = var[f"connect{k}"][:] - 1
        code = block_kind(str(var[f"connect{k}"].elem_type), conn.shape[1])
        kind = KINDS[code] if code is not None else None
        m, name = len(conn), names[k - 1]
        ids = numbers[first : first + m] if numbers is not None else np.arange(first + 1, first + m + 1)
        attributes = var[f"attrib{k}"][:] if f"attrib{k}" in var else None
        first += m
        if name in spider_names:
            s = spider_names[name]
            spiders.append(Spider(name, s["centre"], node_id[conn[:, 1]].astype(np.int32), s["hole"]))
            continue
        if kind is None:
            left_out += m
            continue
        if name == "lumped masses" and attributes is not None:
            masses = [LumpedMass(int(node_id[c[0]]), float(a[0])) for c, a in zip(conn, attributes, strict=True)]
            continue
        part = by_name.get(name)
        if part is None:
            part = max((p.key for p in made_parts), default=0) + 1
            made_parts.append(Part(part, name, "#9DB4A0", PART_KINDS[kind.dimension]))
        full = np.full((m, WIDTH), -1, np.int32)
        had[conn] = True
        full[:, : kind.nodes] = conn[:, : kind.nodes]
        extra = (
            attributes if attributes is not None and attributes.shape[1] == 5 else np.column_stack((np.zeros((m, 2)), np.full((m, 3), -1)))
        )
        if attributes is not None and attributes.shape[1] != 5 and kind.dimension == 2:
            extra[:, 0] = attributes[:, 0]
        values = (
            np.full(m, kind.code, np.uint8),
            full,
            ids.astype(np.int32),
            np.full(m, part, np.int32),
            extra[:, 0],
            extra[:, 1],
            *(extra[:, j].astype(np.int32) for j in (2, 3, 4)),
        )
        for key, value in zip(rows, values, strict=True):
            rows[key].append(value)
        order.append(ids)
    empty = Mesh()
    columns = {name: np.concatenate(lots) if lots else getattr(empty, name) for name, lots in rows.items()}
    file_order = columns["element_id"]
    by_id = np.argsort(columns["element_id"], kind="stable")
    columns = {name: values[by_id] for name, values in columns.items()}
    on = about.get("on") or {"on_kind": np.zeros(n), "on_item": np.full(n, -1), "on_body": np.full(n, -1), "height": np.zeros(n)}
    mesh = Mesh(
        points=points,
        node_id=node_id,
        on_kind=np.array(on["on_kind"], np.uint8),
        on_item=np.array(on["on_item"], np.int32),
        on_body=np.array(on["on_body"], np.int32),
        height=np.array(on["height"], float),
        **columns,
    )
    colours = about.get("colours", {})
    sets = []
    for prefix, dimension, kind_name in (("ns", "num_node_sets", "node"), ("els", "num_elem_sets", "element")):
        if dimension not in file.dimensions:
            continue
        labels = [_string(r) for r in var[f"{prefix}_names"][:]] if f"{prefix}_names" in var else []
        for k in range(1, len(file.dimensions[dimension]) + 1):
            variable = f"node_ns{k}" if prefix == "ns" else f"elem_els{k}"
            members = var[variable][:] - 1 if variable in var else np.empty(0, int)
            numbers_of = node_id if prefix == "ns" else (numbers if numbers is not None else file_order)
            label = labels[k - 1] if k <= len(labels) and labels[k - 1] else f"{kind_name} set {k}"
            sets.append(EntitySet(label, kind_name, np.sort(numbers_of[members]).astype(np.int32), colours.get(label, "#2F6F8F")))
    mesh, notes = as_read(mesh, had, left_out)
    place = {name: i for i, name in enumerate(about.get("set_order", []))}
    sets.sort(key=lambda s: place.get(s.name, 0))
    return Exchange(mesh, tuple(made_parts), tuple(sets), tuple(spiders), tuple(masses), None, about.get("title", stem), notes)

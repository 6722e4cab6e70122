"""Frozen values to JSON and arrays, and back: any registered dataclass, nested at will."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np

from kind_rivet.core.document import changes
from kind_rivet.core.document import document as doc
from kind_rivet.core.geometry import carriers, faults, holes, shape
from kind_rivet.core.mesh.mesh import Mesh
from kind_rivet.core.meshing import rules, washers
from kind_rivet.core.midsurface import hand, remarks, sheet
from kind_rivet.core.quality import limits

_CLASSES: dict[str, type[Any]] = {
    c.__name__: c
    for c in (
        doc.Document, doc.Body, doc.Material, doc.Section, doc.Part, doc.Spider, doc.LumpedMass, doc.Rule, doc.EntitySet, doc.TrailEntry, doc.MeshChoices,
        changes.LeftOut, changes.LookedPast, changes.Split, changes.WallChoice, changes.Bridge, hand.Hand, changes.HardPoint, changes.WorkingPlane, changes.WorkingPoint, changes.SavedView, changes.Joint,
        carriers.Carrier, faults.Fault, holes.Hole, shape.Face, shape.Edge, shape.Shape, Mesh, rules.WasherRule, rules.WasherAt, rules.Grading, rules.LocalSize, washers.RoundHole, sheet.Sheet, sheet.Proof, sheet.Taper, sheet.Varying, remarks.Remark, limits.Limit, limits.LimitSheet,
    )
}  # fmt: skip


def array_key(array: np.ndarray) -> str:
    """Name of an array by its contents: equal arrays are stored once."""
    digest = hashlib.blake2b(digest_size=16)
    digest.update(str(array.dtype).encode() + str(array.shape).encode())
    digest.update(np.ascontiguousarray(array).data)
    return digest.hexdigest()


def pack(value: Any, keep: Callable[[np.ndarray], str]) -> Any:
    """Plain JSON for a value; `keep` takes each array and returns its name."""
    if value is None or isinstance(value, bool | int | str):
        return value
    if isinstance(value, float):
        return value if np.isfinite(value) else {"$number": repr(value)}
    if isinstance(value, np.generic):
        return pack(value.item(), keep)
    if isinstance(value, np.ndarray):
        return {"$array": keep(value)}
    if is_dataclass(value) and not isinstance(value, type):
        name = type(value).__name__
        if name not in _CLASSES:
            raise TypeError(f"{name} is not known to the store")
        return {"$type": name, **{f.name: pack(getattr(value, f.name), keep) for f in fields(value)}}
    if isinstance(value, tuple | list):
        return [pack(v, keep) for v in value]
    if isinstance(value, Mapping):
        return {"$map": [[pack(k, keep), pack(v, keep)] for k, v in value.items()]}
    raise TypeError(f"{type(value).__name__} cannot be stored")


def unpack(value: Any, array: Callable[[str], np.ndarray]) -> Any:
    """The value back; lists come back as tuples, unknown fields of older files are filled by defaults."""
    if isinstance(value, list):
        return tuple(unpack(v, array) for v in value)
    if not isinstance(value, dict):
        return value
    if "$number" in value:
        return float(value["$number"])
    if "$array" in value:
        return array(value["$array"])
    if "$map" in value:
        return {unpack(k, array): unpack(v, array) for k, v in value["$map"]}
    kind = _CLASSES[value["$type"]]
    known = {f.name for f in fields(kind)}
    return kind(**{k: unpack(v, array) for k, v in value.items() if k in known})

"""Taking kernel shapes apart and putting them together."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any


def parts_of(shape: Any, wanted: str, outside: str = "") -> list[Any]:
    """Sub-shapes of one sort (solid, shell, face, wire, edge), on wish only those that belong to none of the sort `outside`."""
    from OCP import TopAbs
    from OCP.TopExp import TopExp_Explorer
    from OCP.TopoDS import TopoDS

    sort = {name: getattr(TopAbs, f"TopAbs_{name.upper()}") for name in ("solid", "shell", "face", "wire", "edge")}
    cast = getattr(TopoDS, wanted.capitalize())
    explorer = TopExp_Explorer(shape, sort[wanted], sort[outside]) if outside else TopExp_Explorer(shape, sort[wanted])
    out = []
    while explorer.More():
        out.append(cast(explorer.Current()))
        explorer.Next()
    return out


def compound(parts: Sequence[Any]) -> Any:
    """Shapes put together as one, without joining them."""
    from OCP.BRep import BRep_Builder
    from OCP.TopoDS import TopoDS_Compound

    out = TopoDS_Compound()
    builder = BRep_Builder()
    builder.MakeCompound(out)
    for part in parts:
        builder.Add(out, part)
    return out

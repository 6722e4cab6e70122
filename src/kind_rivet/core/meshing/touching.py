"""Chords that touch the arc of a bend instead of lying inside it (`bends` says why)."""

from __future__ import annotations


def touching_angle(angle: float, count: int) -> float:
    """The angle β (rad) by which the rows at both borders of a bend are slid so that its `count` chords over an angle (rad) touch the arc.

    Nodes then lie at R / cos β, and the rows on its borders R tan β out on the flats.
    """
    return angle / (2 * (count + 1))

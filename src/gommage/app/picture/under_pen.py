"""What is told of the place under the pen, from what is in the cache already."""

from __future__ import annotations

from gommage.app.hands.ground import Ground
from gommage.core.engine import Engine, Look

__all__ = ["told_under_pen"]


def told_under_pen(engine: Engine, ground: Ground, x: float, y: float) -> str:
    """Return position and colour at a place of the frame; on the donor map, from which frame it comes."""
    words, shot = f"{x:.0f}, {y:.0f}", ground.shot
    if shot is None:
        return words
    if ground.look in (Look.RESULT, Look.PLATE):
        colour = engine.value_if_there(shot, ground.frame, x, y, of_plate=ground.look is Look.PLATE)
        if colour is not None:
            red, green, blue = colour
            words += f"   {red:.3f}  {green:.3f}  {blue:.3f}"
    fix = ground.desk.fix(ground.project)
    if ground.look is Look.DONOR_MAP and fix is not None:
        words += f"   {engine.told_of_place(shot, fix, ground.frame, x, y)}"
    return words

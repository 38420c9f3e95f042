"""Which recipe makes which fill. A new kind is a new file and a line here."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from gommage.core.document import Borrow, Donors, Painted, Placed, Plates, Rim, Span, Texture
from gommage.core.fill.borrow import borrow_at, fill_borrowed
from gommage.core.fill.donors import donors_at
from gommage.core.fill.from_donors import fill_from_donors
from gommage.core.fill.painted import nothing, painted_at
from gommage.core.fill.placed import fill_from_placed, placed_at
from gommage.core.fill.plates import fill_from_plates, plates_at, texture_at
from gommage.core.fill.rim import fill_from_rim, rim_at
from gommage.core.fill.scene import Filled
from gommage.core.fill.spans import fill_span, span_at

__all__ = ["RECIPES", "Recipe"]


@dataclass(frozen=True, slots=True)
class Recipe:
    """A kind of fill.

    Attributes
    ----------
    at : callable
        ``(fill, shot, fix, frame)``: gives one frozen value that holds all that the fill's pixels depend on there, or
        None where it gives none. It has `canvases`, the keys of what is painted on, and `as_shot`, the same without
        paint.
    evaluate : callable
        ``(value, scene, window, check)``: gives the pixels, `Filled`.
    is_lit_already : bool
        Whether its pixels are under the frame's light as they come.
    is_whole : bool
        Whether it is made of all of a cover at once, however scattered.
    is_of_lines : bool
        Whether what is made are lines, thin and long.
    """

    at: Callable[..., Any]
    evaluate: Callable[..., Filled]
    is_lit_already: bool = False
    is_whole: bool = False
    is_of_lines: bool = False


RECIPES: dict[type, Recipe] = {
    Plates: Recipe(plates_at, fill_from_plates),
    Painted: Recipe(painted_at, nothing),
    Donors: Recipe(donors_at, fill_from_donors, is_lit_already=True, is_whole=True),
    Borrow: Recipe(borrow_at, fill_borrowed, is_lit_already=True),
    Texture: Recipe(texture_at, fill_from_plates),
    Span: Recipe(span_at, fill_span, is_lit_already=True, is_of_lines=True),
    Placed: Recipe(placed_at, fill_from_placed),
    Rim: Recipe(rim_at, fill_from_rim, is_lit_already=True),
}
"""By the fill's record; a kind that is not here cannot be used yet."""

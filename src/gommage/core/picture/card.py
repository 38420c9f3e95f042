"""The test card: squares, circle and diagonals, laid on a surface to judge how it is followed."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

__all__ = ["CARD_CORNERS", "test_card"]

WIDTH, HEIGHT, SQUARE = 640, 480, 80
CARD_CORNERS = np.array([[0, 0], [WIDTH, 0], [WIDTH, HEIGHT], [0, HEIGHT]], float)
"""The card's corners in its own pixels."""
LIGHT, DARK = 235, 40
SEE_THROUGH = 150


@lru_cache(maxsize=1)
def test_card() -> NDArray[np.uint8]:
    """Return the card: (480, 640, 4) uint8, grey, half transparent; not to be modified."""
    rows, columns = np.mgrid[0:HEIGHT, 0:WIDTH] // SQUARE
    grey = np.where((rows + columns) % 2, LIGHT, DARK).astype(np.uint8)
    card = np.repeat(grey[..., None], 4, axis=2)
    card[..., 3] = SEE_THROUGH
    middle = WIDTH // 2, HEIGHT // 2
    for colour, thick in ((DARK, 5), (LIGHT, 2)):
        ink = (colour, colour, colour, 255)
        cv2.circle(card, middle, HEIGHT // 2 - 12, ink, thick, cv2.LINE_AA)
        cv2.line(card, (0, 0), (WIDTH, HEIGHT), ink, thick, cv2.LINE_AA)
        cv2.line(card, (WIDTH, 0), (0, HEIGHT), ink, thick, cv2.LINE_AA)
        cv2.rectangle(card, (2, 2), (WIDTH - 3, HEIGHT - 3), ink, thick)
    for number, (x, y) in enumerate(((14, 44), (WIDTH - 44, 44), (WIDTH - 44, HEIGHT - 18), (14, HEIGHT - 18)), 1):
        for colour, thick in ((DARK, 6), (LIGHT, 2)):
            ink = (colour, colour, colour, 255)
            cv2.putText(card, str(number), (x, y), cv2.FONT_HERSHEY_SIMPLEX, 1.2, ink, thick, cv2.LINE_AA)
    return card

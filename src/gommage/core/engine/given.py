"""Pictures that clean plates are given."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from gommage.core.document import FromPicture
from gommage.core.paint import CanvasKey
from gommage.core.picture import Picture, alpha_of, picture_of
from gommage.core.picture.stills import read_still
from gommage.errors import FootageError

__all__ = ["given_picture"]

SOLID = 0.5


def given_picture(
    base: FromPicture, key: CanvasKey, check: Callable[[], None]
) -> tuple[Picture, NDArray[np.bool_] | None]:
    """Return the picture that a clean plate was given, and where its alpha says that there is anything.

    Raises
    ------
    FootageError
        If it cannot be read, or is of another size than the plate.
    """
    path = Path(base.path)
    raw = read_still(path, check)
    picture = picture_of(raw, path, base.colour_space, check)
    wanted = key.window.width, key.window.height
    if (picture.shape[1], picture.shape[0]) != wanted:
        whose = "shot" if key.window == key.footage.bounds else "plate"
        raise FootageError(
            f"{path.name} is {picture.shape[1]} x {picture.shape[0]}, the {whose} is {wanted[0]} x {wanted[1]}.",
            base.path,
        )
    alpha = alpha_of(raw)
    return picture, None if alpha is None else alpha > SOLID

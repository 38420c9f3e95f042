"""Points, windows, fits, and the mapping: where a point of one thing lies in another."""

from gommage.core.geometry.cameras import Camera
from gommage.core.geometry.fits import box_of, closed_monotone_cubic, fitted, is_quad, monotone_cubic, square_on
from gommage.core.geometry.mappings import (
    IDENTITY,
    FieldMapping,
    Mapping,
    MatrixMapping,
    composed,
    from_matrix,
    growth,
    scaling,
    shift,
    spanning,
    then,
    turning,
)
from gommage.core.geometry.stacks import carried_stack, fitted_stack, identity_stack, moved, normal, relative_stack
from gommage.core.geometry.windows import NOWHERE, Matrix, Points, Window, apply_matrix, around, holding, translation

__all__ = [
    "NOWHERE",
    "IDENTITY",
    "Camera",
    "FieldMapping",
    "Mapping",
    "Matrix",
    "MatrixMapping",
    "Points",
    "Window",
    "apply_matrix",
    "around",
    "holding",
    "box_of",
    "closed_monotone_cubic",
    "is_quad",
    "carried_stack",
    "composed",
    "fitted",
    "fitted_stack",
    "from_matrix",
    "growth",
    "identity_stack",
    "monotone_cubic",
    "moved",
    "normal",
    "relative_stack",
    "scaling",
    "shift",
    "spanning",
    "square_on",
    "then",
    "translation",
    "turning",
]

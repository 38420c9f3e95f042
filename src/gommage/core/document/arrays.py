"""An array that can be part of a frozen record."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = ["Array", "decode_array", "encode_array"]


class Array:
    """Hold float64 numbers that never change, compare by content and can be hashed.

    Parameters
    ----------
    values : array_like
        Copied, converted to float64, set read-only.

    Examples
    --------
    >>> a = Array([[1, 2], [3, 4]])
    >>> a == Array([[1.0, 2.0], [3.0, 4.0]]), a.values.flags.writeable
    (True, False)
    """

    __slots__ = ("_hash", "values")

    values: NDArray[np.float64]
    _hash: int

    def __init__(self, values: ArrayLike) -> None:
        own = np.array(values, dtype=np.float64, order="C")
        own.setflags(write=False)
        object.__setattr__(self, "values", own)
        object.__setattr__(self, "_hash", hash((own.shape, own.tobytes())))

    def __setattr__(self, name: str, value: object) -> None:
        raise AttributeError(f"Array is frozen; {name!r} cannot be set")

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if not isinstance(other, Array) or self._hash != other._hash:
            return False
        return np.array_equal(self.values, other.values)

    def __hash__(self) -> int:
        return self._hash

    def __len__(self) -> int:
        return len(self.values)

    def __repr__(self) -> str:
        return f"Array(shape={self.values.shape})"

    def __reduce__(self) -> tuple[Any, ...]:
        return (Array, (self.values,))


def encode_array(value: object) -> object:
    """Turn an `Array` into nested lists, for msgspec's `enc_hook`.

    Raises
    ------
    NotImplementedError
        For any other type, as msgspec wants it.
    """
    if isinstance(value, Array):
        return value.values.tolist()
    raise NotImplementedError(f"{type(value).__name__} cannot be written to a project")


def decode_array(wanted: type, value: object) -> object:
    """Turn nested lists into an `Array`, for msgspec's `dec_hook`.

    Raises
    ------
    NotImplementedError
        For any other type, as msgspec wants it.
    ValueError
        If the lists are ragged or hold something that is no number.
    """
    if wanted is Array and isinstance(value, Sequence):
        array = np.array(value, dtype=np.float64)
        return Array(array)
    raise NotImplementedError(f"{wanted.__name__} cannot be read from a project")

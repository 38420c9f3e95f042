"""An array that can be part of a frozen record, and how it is written."""

from __future__ import annotations

import base64
import binascii
import math
from collections.abc import Mapping as Table
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = ["Array", "decode_array", "encode_array"]

LISTED_AT_MOST = 16
"""Arrays of more numbers are written packed."""
MOST_NUMBERS = 200_000_000


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
        own += 0.0  # no negative zeros: equal arrays must have equal hashes
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
    """Turn an `Array` into plain data, for msgspec's `enc_hook`.

    A few numbers are nested lists. More are an object: ``{"shape": [120, 3], "float64": TEXT}``, TEXT being base64 of
    the numbers as little-endian IEEE 754 doubles, row by row. Both are exact.

    Raises
    ------
    NotImplementedError
        For any other type, as msgspec wants it.
    """
    if not isinstance(value, Array):
        raise NotImplementedError(f"{type(value).__name__} cannot be written to a project")
    numbers = value.values
    if numbers.size <= LISTED_AT_MOST:
        return numbers.tolist()
    packed = base64.b64encode(numbers.astype("<f8", copy=False).tobytes()).decode("ascii")
    return {"shape": list(numbers.shape), "float64": packed}


def decode_array(wanted: type, value: object) -> object:
    """Turn plain data into an `Array`, for msgspec's `dec_hook`; see `encode_array`.

    Raises
    ------
    NotImplementedError
        For any other type, as msgspec wants it.
    ValueError
        If it is not an array: ragged, not numbers, cut off.
    """
    if wanted is not Array:
        raise NotImplementedError(f"{wanted.__name__} cannot be read from a project")
    if isinstance(value, Table):
        return Array(_unpacked(value))
    if isinstance(value, Sequence) and not isinstance(value, str):
        return Array(_listed(value))
    raise ValueError(f"an array is a list or an object with shape and float64, got {type(value).__name__}")


def _listed(value: Sequence[Any]) -> NDArray[np.float64]:
    try:
        numbers = np.array(value)
    except (ValueError, OverflowError):  # lists that are ragged, or of too many levels
        numbers = np.array(None)
    if numbers.size and numbers.dtype.kind not in "iuf":
        raise ValueError("an array holds numbers alone, in lists of equal length")
    return numbers.astype(np.float64)


def _unpacked(value: Table[str, Any]) -> NDArray[np.float64]:
    shape, text = value.get("shape"), value.get("float64")
    if not (isinstance(shape, list) and all(isinstance(side, int) and side >= 0 for side in shape)):
        raise ValueError(f"an array's shape is a list of whole numbers, got {str(shape)[:80]}")
    if not isinstance(text, str) or math.prod(shape) > MOST_NUMBERS:
        raise ValueError("an array's float64 is missing or too long")
    try:
        numbers = np.frombuffer(base64.b64decode(text, validate=True), "<f8")
    except (binascii.Error, ValueError) as error:
        raise ValueError(f"an array's float64 is not base64 of whole numbers of 8 bytes ({error})") from error
    return numbers.reshape(shape)

"""Parts of mattes as text, so that they can be carried between fixes, shots and projects."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from gommage.core.document.arrays import decode_array, encode_array
from gommage.core.document.records import MattePart
from gommage.errors import EditError

__all__ = ["parts_as_text", "parts_from_text"]

MOST_LETTERS = 50_000_000


class _Copied(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    gommage_parts: tuple[MattePart, ...]


def parts_as_text(parts: Iterable[MattePart]) -> str:
    """Return parts of mattes as JSON."""
    return msgspec.json.encode(_Copied(tuple(parts)), enc_hook=encode_array).decode()


def parts_from_text(text: str) -> tuple[MattePart, ...]:
    """Return the parts of mattes that a text holds.

    Raises
    ------
    EditError
        If it holds none.
    """
    try:
        if len(text) > MOST_LETTERS:
            raise ValueError("too long")
        found = msgspec.json.decode(text, type=_Copied, dec_hook=decode_array)
    except (ValueError, msgspec.MsgspecError, UnicodeEncodeError) as error:
        raise EditError("There are no shapes on the clipboard. Copy some with Ctrl+C first.") from error
    return found.gommage_parts

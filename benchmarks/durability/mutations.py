"""Damage: to plain data that were a project or a journal, and to the bytes of any file. Seeded."""

from __future__ import annotations

import base64
import copy
import json
from typing import Any

import numpy as np

__all__ = ["damaged_bytes", "damaged_json", "damaged_lines"]

Random = np.random.Generator

NESTED: Any = 1
for _ in range(400):
    NESTED = [NESTED]

NUDGES = (2, 3, 4, 5)
HOSTILE: tuple[Any, ...] = (
    None, True, False, 0, -1, 1, 2, 1001, 0.5, -0.0, 1e308, -1e308, 1e-308, 2**31, 2**53 + 1, 2**63, -(2**63), 10**30,
    "", "0", "wall", "plate", "fix", "x" * 100_000, "\x00", "a\nb", "\u202e", "../../../etc/passwd", "/dev/zero",
    "/", ".", "#####", "%d", "http://127.0.0.1/a.exr", [], [1], [[]], [[1, 2], [3]], ["a"], [None], [{}], {}, {"a": 1},
    {"type": "plane"}, {"shape": [3], "float64": "AAAA"}, {"shape": [10**9, 10**9], "float64": ""},
    {"shape": [1, 3, 3], "float64": "A" * 96}, {"shape": [2], "float64": "AAAAAAAA+H8AAAAAAADwfw=="}, NESTED,
)  # fmt: skip
"""Values that stand where others are expected."""


def damaged_json(rng: Random, plain: Any) -> bytes:
    """Return plain data as JSON after one or two changes, or with its bytes changed."""
    changed = copy.deepcopy(plain)
    if rng.random() < 0.75:
        for _ in range(rng.integers(1, 3)):
            changed = _damaged(rng, changed)
        return json.dumps(changed).encode()
    return damaged_bytes(rng, json.dumps(changed).encode())


def _places(plain: Any) -> list[tuple[Any, Any]]:
    """Return every (holder, key) in plain data."""
    found, waiting = [], [plain]
    while waiting:
        holder = waiting.pop()
        keys = list(holder) if isinstance(holder, dict) else range(len(holder))
        for key in keys:
            found.append((holder, key))
            if isinstance(holder[key], dict | list):
                waiting.append(holder[key])
    return found


def _damaged(rng: Random, plain: Any) -> Any:
    if not isinstance(plain, dict | list) or not plain:
        return HOSTILE[rng.integers(len(HOSTILE))]
    places = _places(plain)
    kind = 2 if rng.random() < 0.6 else int(rng.integers(10))  # most damage is a number that is not what it was
    if kind in NUDGES:
        leaves = [(one, at) for one, at in places if _is_leaf(one[at])]
        places = leaves or places
    holder, key = places[rng.integers(len(places))]
    value = holder[key]
    match kind:
        case 0 | 1:
            holder[key] = copy.deepcopy(HOSTILE[rng.integers(len(HOSTILE))])
        case 2 | 3 | 4 | 5:
            holder[key] = _nudged(rng, value)
        case 6:
            del holder[key]
        case 7 if isinstance(holder, list):
            holder.insert(key, copy.deepcopy(value))
        case 8 if isinstance(holder, dict):
            holder[f"{key}x"] = holder.pop(key)
        case _:
            other, at = places[rng.integers(len(places))]
            holder[key] = copy.deepcopy(other[at]) if at in other or isinstance(other, list) else None
    return plain


def _is_leaf(value: Any) -> bool:
    return isinstance(value, int | float) or (isinstance(value, dict) and set(value) == {"shape", "float64"})


def _nudged(rng: Random, value: Any) -> Any:
    if isinstance(value, dict) and isinstance(value.get("float64"), str):
        return value | {"float64": _nudged_numbers(rng, value["float64"])}
    if isinstance(value, bool):
        return not value
    if isinstance(value, int):
        return value * int(rng.choice([-1, 2, 1000])) + int(rng.integers(-2, 3))
    if isinstance(value, float):
        return float(value * rng.choice([-1.0, 0.0, 1e-9, 0.9, 1.5, 10.0, 1e9]) + rng.choice([0.0, 0.3]))
    if isinstance(value, str) and value:
        at = int(rng.integers(len(value)))
        return value[:at] + chr(int(rng.integers(1, 0x2FF))) + value[at + 1 :]
    return value


def _nudged_numbers(rng: Random, text: str) -> str:
    """Return packed numbers with some of them changed."""
    try:
        numbers = np.frombuffer(base64.b64decode(text), "<f8").copy()
    except ValueError:
        return text
    for place in rng.integers(0, max(len(numbers), 1), int(rng.integers(1, 4))) if len(numbers) else ():
        scale = float(rng.choice([-1.0, 0.0, 1e-12, 0.5, 3.0, 1e6, 1e200, np.inf, np.nan]))
        with np.errstate(all="ignore"):
            numbers[place] = numbers[place] * scale + float(rng.choice([0.0, 1.0, 200.0]))
    return base64.b64encode(numbers.tobytes()).decode()


def damaged_bytes(rng: Random, data: bytes, *, head: int = 0) -> bytes:
    """Return bytes with some changed, cut off, put in, doubled or zeroed; within the first `head` if that is given."""
    out = bytearray(data)
    for _ in range(rng.integers(1, 5)):
        if not out:
            break
        reach = min(head or len(out), len(out))
        at, length = int(rng.integers(reach)), int(rng.integers(1, 65))
        match rng.integers(6):
            case 0 | 1:
                for place in rng.integers(0, reach, int(rng.integers(1, 9))):
                    out[place] = int(rng.integers(256))
            case 2:
                del out[at:]
            case 3:
                out[at:at] = rng.integers(0, 256, length, np.uint8).tobytes()
            case 4:
                out[at:at] = out[at : at + length]
            case _:
                out[at : at + length] = bytes([int(rng.choice([0, 255]))]) * len(out[at : at + length])
    return bytes(out)


def damaged_lines(rng: Random, lines: list[bytes]) -> bytes:
    """Return a journal's lines damaged: one of them as data, or some left out, doubled, exchanged, or all as bytes."""
    lines = list(lines)
    at = int(rng.integers(len(lines)))
    match rng.integers(5):
        case 0 | 1:
            lines[at] = damaged_json(rng, json.loads(lines[at])).replace(b"\n", b" ")
        case 2:
            del lines[at]
        case 3:
            lines.insert(at, lines[int(rng.integers(len(lines)))])
        case _:
            return damaged_bytes(rng, b"\n".join(lines) + b"\n")
    return b"\n".join(lines) + b"\n"

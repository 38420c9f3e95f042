"""Gestures: what a hand does from a press on, fed event by event. No Qt.

A tool is a generator. It is begun with the ground it works on and the event that woke it; it yields a `Step`, which
says what is to be shown, gets the next event with the ground as it is then, and returns the step that is to be done, or
None. Closing it cancels.
"""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass, field
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from gommage.app.hands.ground import Ground
from gommage.core.document import Project, Stroke, VertexKind
from gommage.core.geometry import Mapping, Points
from gommage.errors import EditError

__all__ = [
    "GRAB_PX",
    "Edit",
    "Gesture",
    "Hand",
    "Laying",
    "PointerEvent",
    "Receiver",
    "Step",
    "Trace",
    "hit_vertex",
    "is_inside",
]

GRAB_PX = 9.0
"""So near a handle counts as touched, in pixels of the screen."""
Edit = Callable[[Project], Project]


@dataclass(frozen=True, slots=True)
class PointerEvent:
    """A pen or mouse event in viewport pixels: press, move or release.

    Attributes
    ----------
    pressure, tilt : float
        0 to 1; tilt 0 is upright.
    is_pen : bool
        Whether a hand that trembles holds it.
    """

    kind: str
    x: float
    y: float
    pressure: float = 1.0
    alt: bool = False
    shift: bool = False
    control: bool = False
    is_eraser: bool = False
    is_pen: bool = False
    tilt: float = 0.0

    @property
    def xy(self) -> NDArray[np.float64]:
        """Where it is, (2,)."""
        return np.array([self.x, self.y])


@dataclass(frozen=True, slots=True, eq=False)
class Trace:
    """A line while it is being drawn.

    Attributes
    ----------
    vertices : (N, 8) float64
        In home pixels of a surface, or of the frame for the empty id; see `ShapeKey`.
    kinds : tuple of VertexKind
    kind : str
        Of the outline that it will be; "marquee" if it only chooses.
    is_in_view : bool
        Whether it is in pixels of the viewport instead.
    """

    vertices: NDArray[np.float64]
    kinds: tuple[VertexKind, ...]
    surface_id: str = ""
    kind: str = "drawing"
    is_closed: bool = False
    has_points: bool = True
    is_in_view: bool = False

    @classmethod
    def in_view(cls, points: Points, kind: str = "marquee") -> Trace:
        """Return a line (N, 2) in the viewport, one that chooses unless it is said of what kind it is."""
        plain = np.hstack([points, np.zeros((len(points), 6))])
        return cls(plain, (VertexKind.CORNER,) * len(plain), kind=kind, has_points=False, is_in_view=True)


@dataclass(frozen=True, slots=True)
class Laying:
    """More of a stroke: the stroke (its own points are ignored), what it is painted on, and points (N, 3)."""

    stroke: Stroke
    holder_id: str
    points: NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Step:
    """What a gesture shows while it goes on, and does at its end.

    Attributes
    ----------
    label, edit
        What would be done to the project, and the word for it.
    desk : dict
        Fields of the desk that change at once.
    trace, laying
        A line being drawn; paint being laid.
    error, note : str
        A sentence on why it cannot be done; one on what was done.
    calls : str
        The action that is done next; empty: none.
    """

    label: str = ""
    edit: Edit | None = None
    desk: dict[str, Any] = field(default_factory=dict)
    trace: Trace | None = None
    laying: Laying | None = None
    error: str = ""
    note: str = ""
    calls: str = ""


Gesture = Generator[Step, tuple[PointerEvent, Ground], Step | None]


class Receiver:
    """What a hand tells of its gesture; the window's side overrides all of it."""

    def show(self, step: Step) -> None:
        """Show what a gesture that goes on says."""

    def do(self, step: Step) -> None:
        """Do what a gesture ended with."""

    def drop(self) -> None:
        """Take back what was shown of a gesture that was called off, or came to nothing."""


class Hand:
    """The one machine for all gestures: begins them, feeds them, ends them."""

    def __init__(self, receiver: Receiver) -> None:
        self._receiver = receiver
        self._gesture: Gesture | None = None
        self.trace: Trace | None = None

    @property
    def is_busy(self) -> bool:
        """Whether a gesture goes on."""
        return self._gesture is not None

    def begin(self, gesture: Gesture) -> None:
        """Begin a gesture; its generator already knows the event that woke it."""
        self._gesture = gesture
        self._go(lambda: next(gesture))

    def feed(self, event: PointerEvent, ground: Ground) -> None:
        """Feed the gesture that goes on."""
        gesture = self._gesture
        if gesture is not None:
            self._go(lambda: gesture.send((event, ground)))

    def cancel(self) -> bool:
        """Call off the gesture; returns whether there was one."""
        gesture, self._gesture, self.trace = self._gesture, None, None
        if gesture is None:
            return False
        gesture.close()
        self._receiver.drop()
        return True

    def _go(self, advance: Callable[[], Step]) -> None:
        try:
            step = advance()
        except StopIteration as end:
            self._gesture, self.trace = None, None
            if end.value is None:
                self._receiver.drop()
            else:
                self._receiver.do(end.value)
        except EditError as error:
            self._gesture, self.trace = None, None
            self._receiver.drop()
            self._receiver.do(Step(error=str(error)))
        else:
            self.trace = step.trace
            self._receiver.show(step)


def hit_vertex(points: Points, event: PointerEvent, view_from_points: Mapping) -> int | None:
    """Return the index of the point (N, 2) under the pen, or None."""
    seen = view_from_points(points)
    distance = np.hypot(seen[:, 0] - event.x, seen[:, 1] - event.y)
    if not np.isfinite(distance).any():
        return None
    index = int(np.nanargmin(distance))
    return index if distance[index] < GRAB_PX else None


def is_inside(line: Points, event: PointerEvent, view_from_line: Mapping) -> bool:
    """Return whether the pen is inside a closed line (N, 2)."""
    seen = view_from_line(line)
    if not np.isfinite(seen).all():
        return False
    return bool(cv2.pointPolygonTest(seen.astype(np.float32), (event.x, event.y), measureDist=False) >= 0)

"""A pen without a pen: recorded or simulated strokes are sent to the picture as a tablet would send them."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPointingDevice, QTabletEvent
from PySide6.QtWidgets import QApplication

from gommage.app.hands.pen import PenPoint
from gommage.app.picture.viewer import Viewer
from gommage.core.geometry import Mapping

__all__ = ["replay"]

KINDS = QTabletEvent.Type


class _Tablet:
    """Devices that events are said to come from; Qt does not keep them alive."""

    def __init__(self) -> None:
        one = QPointingDevice.primaryPointingDevice()
        able = one.Capability.Pressure | one.Capability.XTilt | one.Capability.YTilt
        types = QPointingDevice.PointerType
        self.pen, self.eraser = (
            QPointingDevice("Simulated pen", number, one.DeviceType.Stylus, kind, able, 1, 1)
            for number, kind in ((7001, types.Pen), (7002, types.Eraser))
        )


_tablet: list[_Tablet] = []


def replay(
    viewer: Viewer, points: tuple[PenPoint, ...], view_from_frame: Mapping, *, is_eraser: bool = False,
    modifiers: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier,
) -> None:  # fmt: skip
    """Send one stroke of a pen to the picture: set down at the first point, lifted at the last.

    Parameters
    ----------
    viewer : Viewer
    points : tuple of PenPoint
    view_from_frame : Mapping
        Where pixels of the points' frame are in the viewport.
    is_eraser : bool
        Whether it is the other end of the pen.
    modifiers : Qt.KeyboardModifier
    """
    if not _tablet:
        _tablet.append(_Tablet())
    device = _tablet[0].eraser if is_eraser else _tablet[0].pen
    places = view_from_frame(np.array([(point.x, point.y) for point in points]))
    for index, (point, (x, y)) in enumerate(zip(points, places.tolist(), strict=True)):
        kind = KINDS.TabletPress if index == 0 else KINDS.TabletMove
        _send(viewer, device, kind, QPointF(x, y), point, modifiers)
    _send(viewer, device, KINDS.TabletRelease, QPointF(*places[-1].tolist()), points[-1], modifiers)


def _send(
    viewer: Viewer, device: QPointingDevice, kind: QTabletEvent.Type, at: QPointF, point: PenPoint,
    modifiers: Qt.KeyboardModifier,
) -> None:  # fmt: skip
    left = Qt.MouseButton.LeftButton
    is_down = kind != KINDS.TabletRelease
    event = QTabletEvent(
        kind, device, at, QPointF(viewer.mapToGlobal(at)), point.pressure if is_down else 0.0, point.tilt_x_deg,
        point.tilt_y_deg, 0.0, 0.0, 0.0, modifiers, left, left if is_down else Qt.MouseButton.NoButton,
    )  # fmt: skip
    QApplication.sendEvent(viewer, event)

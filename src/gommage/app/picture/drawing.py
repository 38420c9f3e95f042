"""Draws overlays and the brush's cursor over the picture."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPainterPath, QPen

from gommage.app.look.theme import tabular_font, theme
from gommage.app.picture.overlays import Handles, Mark, Outline, Overlay
from gommage.core.document import VertexKind
from gommage.core.geometry import Points

__all__ = ["CursorLook", "draw_cursor", "draw_overlay", "draw_tag"]

OVERLAY_DARK, OVERLAY_LIGHT = "#1e1e1e", "#dcdcdc"
"""Lines over the picture: the same in every theme, since the picture is."""
POINT_COLOURS = ("#f4f4f4", "#b0b0b0", "#6e6e6e")
"""Of solved points, the surest first: lighter is surer."""
OUTLINES = {
    "area": (Qt.PenStyle.DashLine, "source"),
    "keep-out": (Qt.PenStyle.DotLine, "look_here"),
    "extent": (Qt.PenStyle.DashDotLine, "source"),
    "cover": (Qt.PenStyle.SolidLine, "accent"),
    "light": (Qt.PenStyle.DashLine, "source"),
    "found": (Qt.PenStyle.DashLine, "look_here"),
    "guide": (Qt.PenStyle.SolidLine, "source"),
    "hold-out": (Qt.PenStyle.DashDotLine, "look_here"),
    "scribble-inside": (Qt.PenStyle.SolidLine, "accent"),
    "scribble-outside": (Qt.PenStyle.SolidLine, "source"),
    "stroke": (Qt.PenStyle.SolidLine, "accent"),
    "stroke-other": (Qt.PenStyle.SolidLine, "text"),
    "stroke-source": (Qt.PenStyle.SolidLine, "source"),
    "marquee": (Qt.PenStyle.DotLine, "text"),
    "box": (Qt.PenStyle.SolidLine, "quiet"),
    "soft": (Qt.PenStyle.DotLine, "accent"),
    "key": (Qt.PenStyle.DotLine, "quiet"),
}
"""How outlines are told apart: by their stroke, and by their colour."""
FAINT = ("key", "box", "stroke-other")
"""Lines that stand behind the others."""
CURSOR_SHADE = QColor(0, 0, 0, 130)


@dataclass(frozen=True, slots=True)
class CursorLook:
    """The brush cursor: radius in viewport pixels, softness, and where the source is from it (or None).

    `line_from` is where a source was set whose distance the next touch fixes.
    """

    radius: float
    softness: float
    source_by: tuple[float, float] | None
    line_from: tuple[float, float] | None = None
    is_setting_source: bool = False


def _lines(points: Points) -> list[QLineF]:
    """Return the pieces of a line through points, without those that lead to where no point is."""
    flat = np.asarray(points, float)
    known = np.isfinite(flat).all(axis=1)
    return [
        QLineF(*flat[index], *flat[index + 1]) for index in range(len(flat) - 1) if known[index] and known[index + 1]
    ]


def draw_tag(painter: QPainter, at: QPointF, words: str, *, right: bool = False) -> None:
    """Draw words on a small plate, to the right of a place or to its left."""
    painter.setFont(tabular_font(9))
    width = painter.fontMetrics().horizontalAdvance(words) + 12
    box = QRectF(at.x() - (width if right else 0), at.y(), width, 20)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor(theme().panel))
    painter.drawRoundedRect(box, 4, 4)
    painter.setPen(QColor(theme().text))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)


def draw_overlay(painter: QPainter, overlay: Overlay) -> None:
    """Draw lines as a light one on a dark one, opaque: half-transparent pens cost ten times as much.

    The lattice has many lines: a dark one beside a light one, as pens of more than a pixel cost five times as much.
    """
    painter.setBrush(Qt.BrushStyle.NoBrush)
    lines = [line for points in overlay.lattice for line in _lines(points)]
    for colour, width, aside in ((OVERLAY_DARK, 1.0, 0.8), (OVERLAY_LIGHT, 0.9, 0.0)):
        painter.setPen(QPen(QColor(colour), width))
        painter.translate(aside, aside)
        painter.drawLines(lines)
        painter.translate(-aside, -aside)
    for points, colour in zip(reversed(overlay.points), reversed(POINT_COLOURS), strict=False):
        _draw_points(painter, points, colour)
    if overlay.level is not None:
        painter.setPen(QPen(QColor(OVERLAY_LIGHT), 1.2, Qt.PenStyle.DashDotDotLine))
        painter.drawLines(_lines(overlay.level))
    for one in overlay.outlines:
        _draw_outline(painter, one)
    for way in overlay.trails:
        _draw_trail(painter, way)
    for mark in overlay.marks:
        _draw_mark(painter, mark)
    for x, y, words in overlay.labels:
        draw_tag(painter, QPointF(x, y), words)
    if overlay.handles is not None:
        _draw_handles(painter, overlay.handles, overlay.dot_px)


def _draw_points(painter: QPainter, points: Points, colour: str) -> None:
    places = [QPointF(x, y) for x, y in points if np.isfinite(x + y)]
    for pen in (QPen(QColor(OVERLAY_DARK), 5.0), QPen(QColor(colour), 3.0)):
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        painter.setPen(pen)
        painter.drawPoints(places)


def _draw_outline(painter: QPainter, one: Outline) -> None:
    points = one.points
    shape = _lines(np.vstack([points, points[:1]]) if one.is_closed else points)
    style, token = OUTLINES.get(one.kind, (Qt.PenStyle.SolidLine, "accent"))
    colour = QColor(one.colour) if one.colour else QColor(getattr(theme(), token))
    if one.is_here and one.kind not in FAINT:
        painter.setPen(QPen(QColor(OVERLAY_DARK), 3.2))
        painter.drawLines(shape)
    else:
        colour.setAlpha(110 if one.is_here else 70)
    painter.setPen(QPen(colour, 1.8 if one.is_chosen else 1.4, style))
    painter.drawLines(shape)


def _draw_trail(painter: QPainter, way: Points) -> None:
    shape, colour = _lines(way), QColor(theme().source)
    for pen in (QPen(QColor(OVERLAY_DARK), 2.6), QPen(colour, 1.2)):
        painter.setPen(pen)
        painter.drawLines(shape)
    painter.setPen(QPen(colour, 3.5))
    painter.drawPoints([line.p1() for line in shape])


def _draw_mark(painter: QPainter, mark: Mark) -> None:
    """Draw a spot: a cross in a ring; hollow and dashed where the spot is not seen."""
    at = QPointF(mark.x, mark.y)
    style = Qt.PenStyle.SolidLine if mark.is_seen else Qt.PenStyle.DotLine
    painter.setBrush(Qt.BrushStyle.NoBrush)
    width = 2.2 if mark.is_chosen else 1.4
    for pen in (QPen(QColor(OVERLAY_DARK), 3.4), QPen(QColor(theme().source), width, style)):
        painter.setPen(pen)
        painter.drawEllipse(at, 8, 8)
        if mark.is_seen:
            painter.drawLine(at - QPointF(4, 0), at + QPointF(4, 0))
            painter.drawLine(at - QPointF(0, 4), at + QPointF(0, 4))


def _draw_handles(painter: QPainter, handles: Handles, dot: float) -> None:
    """Draw vertices: round ones as dots, corners as squares; those that are chosen in the accent's colour."""
    accent, light = QColor(theme().accent), QColor(OVERLAY_LIGHT)
    for x, y, end_x, end_y in handles.arms:
        painter.setPen(QPen(QColor(OVERLAY_DARK), 2.6))
        painter.drawLine(QLineF(x, y, end_x, end_y))
        painter.setPen(QPen(light, 1.2))
        painter.drawLine(QLineF(x, y, end_x, end_y))
        _draw_dot(painter, end_x, end_y, dot * 0.8, accent, is_square=False)
    if handles.soft is not None:
        painter.setPen(QPen(light, 1.0, Qt.PenStyle.DotLine))
        painter.drawLines([QLineF(*one) for one in handles.soft if np.isfinite(one).all()])
        for x, y in handles.soft[:, 2:]:
            _draw_dot(painter, x, y, dot * 0.8, QColor(theme().look_here), is_square=False)
    for index, (x, y) in enumerate(handles.points):
        is_corner = bool(handles.kinds) and handles.kinds[index] == VertexKind.CORNER
        _draw_dot(painter, x, y, dot, accent if index in handles.chosen else light, is_square=is_corner)
    for x, y in handles.grips if handles.grips is not None else ():
        _draw_dot(painter, x, y, dot, QColor(theme().quiet), is_square=True)


def _draw_dot(painter: QPainter, x: float, y: float, dot: float, colour: QColor, *, is_square: bool) -> None:
    if not (np.isfinite(x) and np.isfinite(y)):
        return
    painter.setPen(QPen(QColor(OVERLAY_DARK), 1))
    painter.setBrush(colour)
    if is_square:
        painter.drawRect(QRectF(x - dot * 0.85, y - dot * 0.85, 1.7 * dot, 1.7 * dot))
    else:
        painter.drawEllipse(QPointF(x, y), dot, dot)
    painter.setBrush(Qt.BrushStyle.NoBrush)


def draw_cursor(painter: QPainter, at: QPointF, look: CursorLook, preview: QImage | None) -> None:
    """Draw the brush: its ring, its source, the line between them; inside it the pixels that are about to be laid."""
    colours = theme()
    if look.source_by is not None and preview is not None:
        _draw_preview(painter, at, look, preview)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    source = at + QPointF(*look.source_by) if look.source_by is not None else None
    if look.line_from is not None:
        source = QPointF(*look.line_from)
    if source is not None:
        painter.setPen(QPen(QColor(colours.source), 1.4, Qt.PenStyle.DashLine))
        painter.drawLine(at, source)
        _ring(painter, source, look.radius, QColor(colours.source))
        _cross(painter, source, 4)
    ring = QColor(colours.source if look.is_setting_source else colours.accent)
    _ring(painter, at, look.radius, ring)
    if look.softness > 0.05:
        painter.setPen(QPen(ring, 1, Qt.PenStyle.DotLine))
        inner = look.radius * (1 - look.softness)
        painter.drawEllipse(at, inner, inner)
    if look.is_setting_source:
        _cross(painter, at, 6)


def _ring(painter: QPainter, at: QPointF, radius: float, colour: QColor) -> None:
    for shade, width in ((CURSOR_SHADE, 3.0), (colour, 1.5)):
        painter.setPen(QPen(shade, width))
        painter.drawEllipse(at, radius, radius)


def _cross(painter: QPainter, at: QPointF, arm: float) -> None:
    painter.drawLine(at - QPointF(arm, 0), at + QPointF(arm, 0))
    painter.drawLine(at - QPointF(0, arm), at + QPointF(0, arm))


def _draw_preview(painter: QPainter, at: QPointF, look: CursorLook, preview: QImage) -> None:
    assert look.source_by is not None
    painter.save()
    path = QPainterPath()
    inner = max(look.radius * (1 - look.softness / 2), 1)
    path.addEllipse(at, inner, inner)
    painter.setClipPath(path)
    painter.setOpacity(0.9)
    painter.drawImage(QPointF(-look.source_by[0], -look.source_by[1]), preview)
    painter.restore()

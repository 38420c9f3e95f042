"""Wires: lines that find themselves on a frame, and are followed over others."""

from gommage.core.follow.wires.finding import Wire, find_wire, known_wire, smooth_line, wire_again

__all__ = ["Wire", "find_wire", "known_wire", "smooth_line", "wire_again"]

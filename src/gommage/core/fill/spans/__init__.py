"""Spans: lines closed from both sides, for wires, strings and scratches, live on each frame."""

from gommage.core.fill.spans.covers import cover_on
from gommage.core.fill.spans.recipe import SpanAt, fill_span, span_at

__all__ = ["SpanAt", "cover_on", "fill_span", "span_at"]

"""What a project is: frozen records, edits as pure functions, history, reading and writing."""

from gommage.core.document import edits, store
from gommage.core.document.arrays import Array
from gommage.core.document.history import History, Step
from gommage.core.document.records import (
    SCHEMA_VERSION,
    CleanPlate,
    CleanPlateFill,
    Cover,
    Fix,
    Footage,
    Frames,
    Match,
    MotionModel,
    Project,
    Shape,
    ShapeKey,
    Shot,
    Source,
    Stroke,
    Surface,
    Tool,
    Track,
    new_id,
)

__all__ = [
    "SCHEMA_VERSION",
    "Array",
    "CleanPlate",
    "CleanPlateFill",
    "Cover",
    "Fix",
    "Footage",
    "Frames",
    "History",
    "Match",
    "MotionModel",
    "Project",
    "Shape",
    "ShapeKey",
    "Shot",
    "Source",
    "Step",
    "Stroke",
    "Surface",
    "Tool",
    "Track",
    "edits",
    "new_id",
    "store",
]

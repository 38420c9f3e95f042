"""The actions of painting: brushes, strokes, what is kept on keys."""

from __future__ import annotations

from gommage.app.action import Action

__all__ = ["BRUSHES", "STROKES"]

KEPT = tuple(
    Action(f"{does}_{what}_{key}", f"{does.capitalize()} {what} {key}", (keys.format(key + first),),
           "Strokes/Kept on keys", tip, "fix")
    for what, does, keys, first, tip in (
        ("brush", "take", "F{}", 4, "The brush that is kept on the key"),
        ("brush", "keep", "Shift+F{}", 4, "Keep the brush in hand on the key"),
        ("source", "take", "Ctrl+{}", 0, "The source that is kept on the key"),
        ("source", "keep", "Ctrl+Shift+{}", 0, "Keep the source of the brush on the key"),
    )
    for key in (1, 2, 3, 4)
)  # fmt: skip
"""Brushes and sources that are kept."""
STROKES = (
    Action("remove_strokes", "Remove strokes", (), "Strokes", "Remove the chosen strokes", "strokes"),
    Action("switch_strokes", "Switch strokes off or on", ("Shift+H",), "Strokes", "The chosen strokes", "strokes"),
    Action("lock_strokes", "Lock or unlock strokes", (), "Strokes", "No hand moves or removes them", "strokes"),
    Action("duplicate_strokes", "Duplicate strokes", ("Shift+M",), "Strokes", "Once more, on top", "strokes"),
    Action("raise_strokes", "Strokes to the top", (), "Strokes", "They are laid last", "strokes"),
    Action("lower_strokes", "Strokes to the bottom", (), "Strokes", "They are laid first", "strokes"),
    Action("redraw_stroke", "Draw a stroke's path anew", (), "Strokes", "All else of it stays", "strokes"),
    Action(
        "group_strokes", "Group strokes", ("Ctrl+Shift+G",), "Strokes", "To name, time, fade them as one", "strokes"
    ),
    Action("ungroup_strokes", "Ungroup strokes", (), "Strokes", "Take them out of their groups", "strokes"),
    Action(
        "repeat_on_next",
        "Repeat on the next frame",
        ("N",),
        "Strokes",
        "The strokes of this frame, or the chosen",
        "fix",
    ),
    Action(
        "repeat_on_previous",
        "Repeat on the frame before",
        ("Shift+N",),
        "Strokes",
        "The strokes of this frame, or the chosen",
        "fix",
    ),
    Action(
        "find_source",
        "Find a source",
        ("Alt+S",),
        "Strokes",
        "The best place and frame for where the brush is; again: the next",
        "paint",
    ),
    Action("previous_source", "The found source before", ("Alt+A",), "Strokes", needs="paint"),
    *KEPT,
    Action(
        "stroke_along_shape",
        "Stroke along the shape",
        (),
        "Strokes",
        "The brush goes round the shape in hand in Cover",
        "shape",
    ),
)
"""What is done with strokes."""
BRUSHES = (
    Action("tool_clone", "Clone", ("C",), "Tools", "Alt-click sets the source", "paint", True, "brush-clone"),
    Action("tool_heal", "Heal", ("V",), "Tools", "Clone, fitted to the colour around", "paint", True, "brush-heal"),
    Action("tool_restore", "Restore", ("B",), "Tools", "Bring the plate back", "paint", True, "brush-restore"),
    Action(
        "tool_erase", "Erase", ("6",), "Tools", "Take paint away: what lies below shows", "paint", True, "brush-erase"
    ),
    Action("tool_smear", "Smear", ("7",), "Tools", "Drag what is there along", "paint", True, "brush-smear"),
    Action("tool_soften", "Soften", ("8",), "Tools", "Blur what is there", "paint", True, "brush-soften"),
    Action("tool_sharpen", "Sharpen", ("9",), "Tools", "Bring detail out", "paint", True, "brush-sharpen"),
    Action(
        "tool_lighten",
        "Lighten",
        ("0",),
        "Tools",
        "All tones, or shadows, middle, highlights",
        "paint",
        True,
        "brush-lighten",
    ),
    Action(
        "tool_darken",
        "Darken",
        ("Shift+0",),
        "Tools",
        "All tones, or shadows, middle, highlights",
        "paint",
        True,
        "brush-darken",
    ),
    Action(
        "tool_colour",
        "Colour",
        ("Shift+9",),
        "Tools",
        "Paint a colour; Alt-click takes it from the picture",
        "paint",
        True,
        "brush-colour",
    ),
    Action(
        "paint_on_shot",
        "Paint on the shot",
        ("Ctrl+Shift+C",),
        "Tools",
        "Strokes of the fix in hand, or of a new one, laid on the frames themselves",
        "shot",
    ),
    Action("brush_smaller", "Smaller brush", ("R",), "Tools", "Or a smaller reach", "shot"),
    Action("brush_larger", "Larger brush", ("T",), "Tools", "Or a larger reach", "shot"),
    Action("pen_tilts", "Tilt instead of pressure", (), "Tools", "How flat the pen is held", "paint", True),
    Action("simulated_pen", "Simulated pen", (), "Tools", "A mouse presses like a pen", "paint", True),
    Action("brush_softer", "Softer brush", ("Alt+T",), "Tools", needs="paint"),
    Action("brush_harder", "Harder brush", ("Alt+R",), "Tools", needs="paint"),
)
"""Brushes, and what is set of them."""

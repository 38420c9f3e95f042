"""Every action of the window, once, as data: menus, shortcuts, tips and tests all read this table."""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["ACTIONS", "HELD_KEYS", "Action"]


@dataclass(frozen=True, slots=True)
class Action:
    """One thing that can be done.

    Attributes
    ----------
    id : str
        Also the name of the main window's method that does it.
    text : str
        In menus.
    keys : tuple of str
        Shortcuts, the first is shown.
    menu : str
        Which menu it stands in.
    tip : str
        What it does, for the tooltip.
    needs : str
        What must be there: "", "shot", "surface", "track", "fix", "plate".
    is_of_picture : bool
        Whether its keys count only while the picture has the focus: keys that fields need for themselves.
    """

    id: str
    text: str
    keys: tuple[str, ...] = ()
    menu: str = ""
    tip: str = ""
    needs: str = ""
    is_checkable: bool = False
    icon: str = ""
    is_of_picture: bool = False


ACTIONS: tuple[Action, ...] = (
    Action("open_footage", "Open footage…", ("Ctrl+I",), "File", "Numbered pictures or a movie", icon="film"),
    Action("open_project", "Open project…", ("Ctrl+O",), "File", "A Gommage project", icon="folder-open"),
    Action("open_demo", "Open the paper theatre", (), "File", "A shot to try everything on, drawn on first use"),
    Action("recover_work", "Recover work…", (), "File", "What was left behind when Gommage ended unexpectedly"),
    Action("save", "Save", ("Ctrl+S",), "File", "Save the project", "shot", icon="save"),
    Action("save_as", "Save as…", ("Ctrl+Shift+S",), "File", "Save the project under another name", "shot"),
    Action("render_shot", "Render…", ("Ctrl+R",), "File", "Write the cleaned frames", "shot", icon="download"),
    Action("write_follow", "Write follow…", (), "File", "Where the surface is, as CSV or JSON", "track"),
    Action("read_follow", "Read follow…", (), "File", "Give the surface a track from a file", "surface"),
    Action("close_window", "Quit", ("Ctrl+Q",), "File"),
    Action("undo", "Undo", ("Ctrl+Z",), "Edit", icon="undo-2"),
    Action("redo", "Redo", ("Ctrl+Shift+Z",), "Edit", icon="redo-2"),
    Action(
        "remove_selected",
        "Remove",
        ("Delete",),
        "Edit",
        "Remove the selected key, fix, plate or surface",
        "shot",
    ),
    Action("remove_strokes", "Remove strokes", (), "Edit", "Remove the chosen strokes", "plate"),
    Action("new_surface", "New surface", ("Shift+A",), "Edit", "Draw an area to follow", "shot"),
    Action(
        "new_fix",
        "New fix",
        ("Shift+S",),
        "Edit",
        "One more thing to remove, on this surface",
        "surface",
        icon="plus",
    ),
    Action(
        "new_plate",
        "Clean plate from this frame",
        ("Shift+C",),
        "Edit",
        "A still of this frame to paint on",
        "track",
    ),
    Action("next_frame", "Next frame", ("F", "Right"), "Frames", needs="shot", icon="step-forward"),
    Action("previous_frame", "Previous frame", ("D", "Left"), "Frames", needs="shot", icon="step-back"),
    Action("jump_on", "Ten frames on", ("Shift+F",), "Frames", needs="shot"),
    Action("jump_back", "Ten frames back", ("Shift+D",), "Frames", needs="shot"),
    Action("first_frame", "First frame", ("Home",), "Frames", needs="shot", icon="arrow-left-to-line"),
    Action("last_frame", "Last frame", ("End",), "Frames", needs="shot", icon="arrow-right-to-line"),
    Action(
        "home_frame",
        "Home frame",
        ("E",),
        "Frames",
        "The frame at which the surface or plate is at home",
        "surface",
    ),
    Action(
        "worst_frame",
        "Worst frame",
        ("G",),
        "Frames",
        "Where the check found the most",
        "fix",
        icon="locate-fixed",
    ),
    Action("play", "Play", ("Space",), "Frames", "Play or stop", "shot", True, "play"),
    Action("follow_forwards", "Follow forwards", ("Ctrl+F",), "Surface", "From this frame to the end", "surface"),
    Action(
        "follow_backwards",
        "Follow backwards",
        ("Ctrl+D",),
        "Surface",
        "From this frame to the start",
        "surface",
    ),
    Action(
        "follow_both",
        "Follow both ways",
        ("Ctrl+G",),
        "Surface",
        "From this frame to both ends, or over the marked frames",
        "surface",
    ),
    Action("follow_one_on", "Follow one frame on", ("Ctrl+Shift+F",), "Surface", needs="surface"),
    Action("follow_one_back", "Follow one frame back", ("Ctrl+Shift+D",), "Surface", needs="surface"),
    Action("mark_from", "Mark from here", ("Shift+1",), "Surface", "First of the marked frames", "shot"),
    Action("mark_to", "Mark up to here", ("Shift+2",), "Surface", "Last of the marked frames", "shot"),
    Action("unmark", "Unmark frames", ("Shift+3",), "Surface", needs="shot"),
    Action("smooth_marked", "Smooth the marked frames", (), "Surface", needs="track"),
    Action("trim_to_marked", "Trim to the marked frames", (), "Surface", needs="track"),
    Action("worst_slip", "Frame of the greatest slip", ("Shift+G",), "Surface", needs="track"),
    Action("unpin", "Unpin this frame", ("Shift+X",), "Surface", "Take the correction off", "surface"),
    Action("forget_own_points", "Pin by the corners again", (), "Surface", "Drop own points", "surface"),
    Action("find_spots", "Find good spots", (), "Surface", "Set spots that are easy to follow", "surface"),
    Action("stop", "Stop", ("Escape",), "Surface", "Stop what is running; drop the shape in hand"),
    Action("step_follow", "Follow", ("1",), "Steps", "Follow a flat area", "shot", True),
    Action("step_cover", "Cover", ("2",), "Steps", "Draw round the thing", "shot", True),
    Action("step_fill", "Fill", ("3",), "Steps", "Make and paint clean plates", "shot", True),
    Action("step_match", "Match", ("4",), "Steps", "Edge, light and grain", "shot", True),
    Action("step_check", "Check", ("5",), "Steps", "Measure and compare", "shot", True),
    Action("tool_hand", "Move view", ("A",), "Tools", "Drag to move, wheel to zoom", "shot", True, "hand"),
    Action(
        "tool_draw",
        "Draw shape",
        ("S",),
        "Tools",
        "Click round it, click the first point to close",
        "shot",
        True,
        "spline",
    ),
    Action(
        "tool_edit",
        "Edit shape",
        ("X",),
        "Tools",
        "Drag points; on another frame that makes a key",
        "shot",
        True,
        "mouse-pointer-2",
    ),
    Action(
        "tool_pin",
        "Pin",
        ("Shift+V",),
        "Tools",
        "Drag the surface's corners where they belong; Alt-click sets own points",
        "surface",
        True,
        "pin",
    ),
    Action("tool_clone", "Clone", ("C",), "Tools", "Alt-click sets the source", "plate", True, "brush-clone"),
    Action("tool_heal", "Heal", ("V",), "Tools", "Clone, fitted to the colour around", "plate", True, "brush-heal"),
    Action("tool_restore", "Restore", ("B",), "Tools", "Bring the plate back", "plate", True, "brush-restore"),
    Action("brush_smaller", "Smaller brush", ("R",), "Tools", needs="plate"),
    Action("brush_larger", "Larger brush", ("T",), "Tools", needs="plate"),
    Action("fit_view", "Fit picture", ("Tab",), "View", "The whole picture", "shot", icon="maximize"),
    Action("actual_pixels", "100 %", ("Shift+Tab",), "View", "One pixel is one pixel", "shot"),
    Action("steady", "Steady view", ("W",), "View", "Hold the surface still", "track", True, "locate-fixed"),
    Action(
        "square_on",
        "Square-on view",
        ("Ctrl+E",),
        "View",
        "The surface without perspective",
        "track",
        True,
        "square",
    ),
    Action(
        "test_card", "Test card", ("Ctrl+T",), "View", "A drawn card laid on the surface", "surface", True, "contrast"
    ),
    Action("trails", "Trails of the corners", (), "View", "Where the corners come from and go", "track", True),
    Action("sheet", "Sheet", ("Ctrl+B",), "View", "The surface on all frames, held still", "track", True, "grid-3x3"),
    Action("lattice", "Lattice", ("Shift+W",), "View", "The grid on the surface", "surface", True, "grid-3x3"),
    Action("wipe", "Wipe", ("Shift+Q",), "View", "Result left, plate right of a line", "shot", True, "columns-2"),
    Action("light_theme", "Light theme", (), "View", is_checkable=True),
    Action("measure", "Measure", ("Ctrl+M",), "View", "Measure the fix on all frames", "fix"),
    Action(
        "advised",
        "Do what is advised",
        ("Return",),
        "Steps",
        "The button at the foot of the panel",
        "shot",
        is_of_picture=True,
    ),
    Action("shortcuts", "Shortcuts", ("F1",), "Help", "All keys", icon="circle-help"),
)
"""All actions, in the order of their menus."""

HELD_KEYS = {"Q": "Flick to the plate while held", "Z": "Hide overlays while held", "Alt": "Set the source",
             "Shift": "Straight line from the last stroke"}  # fmt: skip
"""Keys that work while they are held."""

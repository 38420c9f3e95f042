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
        Which menu it stands in; with a stroke, which menu of that one.
    tip : str
        What it does, for the tooltip.
    needs : str
        What must be there: "", "shot", "surface", "track", "fix", "shape", "plate", "paint".
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


NUDGES = tuple(
    Action(f"nudge_{way.lower()}_{name}", f"{way} by {words}", (f"{keys}+{way}",), "Shape/Nudge",
           "Chosen points, or the whole shape; with a brush its source", "shot")
    for name, words, keys in (("one", "1 px", "Ctrl"), ("tenth", "0.1 px", "Alt"), ("ten", "10 px", "Ctrl+Shift"))
    for way in ("Left", "Right", "Up", "Down")
)  # fmt: skip
"""What is chosen, moved by keys."""

ACTIONS: tuple[Action, ...] = (
    Action("open_footage", "Open footage…", ("Ctrl+I",), "File", "Numbered pictures or a movie", icon="film"),
    Action("open_project", "Open project…", ("Ctrl+O",), "File", "A Gommage project", icon="folder-open"),
    Action("open_demo", "Open the paper theatre", (), "File", "A shot to try everything on, drawn on first use"),
    Action("open_crosses", "Open the paper theatre: crosses", (), "File", "To hold out hair and a lantern on"),
    Action("open_reel", "Open the paper theatre: old reel", (), "File", "To paint dust, hairs and a scratch away on"),
    Action(
        "open_stage_hand",
        "Open the paper theatre: stage hand",
        (),
        "File",
        "To paint an arm away on, from other frames",
    ),
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
    Action("copy_shapes", "Copy shapes", ("Ctrl+C",), "Shape", "As text, for this shot or another", "shape"),
    Action("paste_shapes", "Paste shapes", ("Ctrl+V",), "Shape", "Into the cover or the hold-outs in hand", "fix"),
    Action("duplicate_shape", "Duplicate shape", ("Ctrl+Shift+V",), "Shape", "Once more, on top", "shape"),
    Action("choose_all_points", "Choose all points", ("Ctrl+A",), "Shape", needs="shape"),
    Action("corner_points", "Corner points", (), "Shape", "Chosen points, or all of them", "shape"),
    Action("round_points", "Round points", (), "Shape", "Chosen points, or all of them", "shape"),
    Action("handle_points", "Points with handles", (), "Shape", "Chosen points, or all of them", "shape"),
    Action(
        "transform_box",
        "Box around what is chosen",
        ("Shift+B",),
        "Shape",
        "Move, turn, scale, shear, perspective",
        "shape",
        True,
        "box",
    ),
    Action(
        "soften_points",
        "Soften single points",
        ("Shift+T",),
        "Shape",
        "Drag how far the edge fades at each point",
        "shape",
        True,
        "soften",
    ),
    Action(
        "propose_key",
        "Propose a key",
        ("Ctrl+K",),
        "Shape",
        "Lay the outline along the edge that it was drawn on",
        "shape",
    ),
    Action("take_proposal", "Take the proposed key", (), "Shape", needs="shape"),
    Action("on_from_here", "On from here", (), "Shape", "The shape exists from this frame on", "shape"),
    Action("off_from_here", "Off from here", (), "Shape", "The shape does not exist from this frame on", "shape"),
    Action("reach_this", "Change this key", ("Alt+1",), "Shape", "A change makes a key on this frame", "shot", True),
    Action(
        "reach_all", "Change all keys", ("Alt+2",), "Shape", "A change is added to all keys; none is made", "shot", True
    ),
    Action(
        "reach_marked",
        "Change marked frames",
        ("Alt+3",),
        "Shape",
        "A change is added on the marked frames alone",
        "shot",
        True,
    ),
    Action(
        "solo_shape", "This shape alone", ("Shift+Z",), "Shape", "The others are switched off to look", "shape", True
    ),
    Action("lock_shape", "Lock shape", (), "Shape", "Hands leave it alone", "shape", True),
    *NUDGES,
    Action("remove_strokes", "Remove strokes", (), "Strokes", "Remove the chosen strokes", "strokes"),
    Action("switch_strokes", "Switch strokes off or on", ("Shift+H",), "Strokes", "The chosen strokes", "strokes"),
    Action("lock_strokes", "Lock or unlock strokes", (), "Strokes", "No hand moves or removes them", "strokes"),
    Action("duplicate_strokes", "Duplicate strokes", ("Ctrl+J",), "Strokes", "Once more, on top", "strokes"),
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
        "stroke_along_shape",
        "Stroke along the shape",
        (),
        "Strokes",
        "The brush goes round the shape in hand in Cover",
        "shape",
    ),
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
        "tool_mould",
        "Reshape softly",
        ("Shift+R",),
        "Tools",
        "Push, pull, swell or smooth what is within reach",
        "shape",
        True,
        "mould",
    ),
    Action(
        "tool_scribble",
        "Scribble",
        ("Shift+E",),
        "Tools",
        "Strokes inside a thing, with Alt outside, make a matte",
        "shot",
        True,
        "scribble",
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
    Action(
        "matte_from_file",
        "Matte from a file…",
        (),
        "Matte",
        "A part of the cover or the hold-outs; in Follow, what is not looked at",
        "shot",
    ),
    Action("alpha_as_part", "The plate's alpha", (), "Matte", "As a part of the cover or the hold-outs", "fix"),
    Action(
        "add_shared_matte",
        "A shared matte",
        (),
        "Matte",
        "As a part here too; in Follow, what is not looked at",
        "shot",
    ),
    Action("share_matte", "Share this matte", (), "Matte", "So that other fixes and follows can use it", "fix"),
    Action("own_matte", "Shapes of its own", (), "Matte", "In place of the shared matte in hand", "shape"),
    Action("carry_scribbles", "Carry scribbles over all frames", (), "Matte", "And tell where they drift", "shape"),
    Action(
        "write_matte",
        "Write this fix's matte…",
        (),
        "Matte",
        "As EXR, TIFF or PNG, over the marked frames or all",
        "fix",
    ),
    Action("write_matte_parts", "Write the chosen parts…", (), "Matte", "Their matte alone", "shape"),
    Action("write_all_mattes", "Write all fixes' matte…", (), "Matte", "Of all fixes together", "shot"),
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
    Action("larger_dots", "Larger points", (), "View", "For dense displays", "shot", True),
    Action("stroke_outlines", "Outline all strokes", ("Shift+O",), "View", "Of this frame, in Fill", "paint", True),
    Action("lattice", "Lattice", ("Shift+W",), "View", "The grid on the surface", "surface", True, "grid-3x3"),
    Action("wipe", "Wipe", ("Shift+Q",), "View", "Result left, plate right of a line", "shot", True, "columns-2"),
    Action(
        "veil",
        "Veil of the matte",
        ("Ctrl+W",),
        "View",
        "The matte over the picture; hold-outs in another tone",
        "fix",
        True,
    ),
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

HELD_KEYS = {"Q": "Flick to the plate while held", "Z": "Hide overlays while held",
             "Y": "See the source's frame while held", "Alt": "Set the source",
             "Shift": "Straight line from the last stroke"}  # fmt: skip
"""Keys that work while they are held."""

"""Everything that can go wrong and that a user may read about.

::

    GommageError            one clear sentence: what happened, to what, what to do
    ├── EditError           an edit that the document does not allow
    ├── FootageError        pictures that cannot be read (path, frame)
    │   └── FrameMissingError   this frame's file is not there; the rest of the footage is fine
    ├── ProjectError        a project that cannot be read or written (path)
    │   ├── ProjectChangedError     somebody else saved it meanwhile
    │   └── ProjectInUseError       it is open elsewhere
    ├── RenderError         pictures that cannot be written (path)
    └── FollowError         a follow that cannot begin
    Cancelled               (a BaseException) the work was called off; nobody is to blame

A wrong call from code is a `ValueError` or `TypeError` instead. This module imports nothing, so every
layer may use it.
"""

__all__ = [
    "Cancelled",
    "EditError",
    "FollowError",
    "FootageError",
    "FrameMissingError",
    "GommageError",
    "ProjectChangedError",
    "ProjectError",
    "ProjectInUseError",
    "RenderError",
    "sentence",
    "unexpected",
]


LONGEST_SENTENCE = 600
"""Letters; what is quoted in a sentence may come from a file that somebody else made."""


class GommageError(Exception):
    """Base of all errors that are shown to the user; `str()` is the sentence to show."""

    def __init__(self, message: str = "") -> None:
        super().__init__(sentence(message))


def sentence(words: str) -> str:
    """Return words on one line that a label can show: nothing unprintable in them, and cut in the middle if long."""
    line = " ".join("".join(letter if letter.isprintable() else " " for letter in _clipped(words)).split())
    return _clipped(line)


def unexpected(error: BaseException) -> str:
    """Return the sentence that is shown for an error that nobody expected."""
    return sentence(f"Something went wrong inside Gommage ({type(error).__name__}: {error}). Your work is safe.")


def _clipped(words: str) -> str:
    half = LONGEST_SENTENCE // 2
    return words if len(words) <= LONGEST_SENTENCE else f"{words[:half]} … {words[-half:]}"


class EditError(GommageError):
    """An edit that the document does not allow."""


class FootageError(GommageError):
    """Pictures that cannot be read.

    Attributes
    ----------
    path : str
        The file or folder that was asked for.
    """

    def __init__(self, message: str, path: str = "") -> None:
        super().__init__(message)
        self.path = path


class FrameMissingError(FootageError):
    """One frame of the footage is not there.

    Attributes
    ----------
    frame : int
        The frame number.
    """

    def __init__(self, message: str, path: str, frame: int) -> None:
        super().__init__(message, path)
        self.frame = frame


class ProjectError(GommageError):
    """A project that cannot be read or written."""


class ProjectChangedError(ProjectError):
    """The project on disk is not the one that was opened or saved here: somebody else saved it."""


class ProjectInUseError(ProjectError):
    """The project is open in another window or process."""


class RenderError(GommageError):
    """Pictures that cannot be written."""


class FollowError(GommageError):
    """A follow that cannot begin: no area, too little of it in the picture, no texture."""


class Cancelled(BaseException):
    """Work was called off; a BaseException, so that `except Exception` does not swallow it."""

    def __init__(self, reason: str = "stopped") -> None:
        super().__init__(reason)
        self.reason = reason

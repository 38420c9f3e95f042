"""Everything that can go wrong and that a user may read about.

::

    GommageError            one clear sentence: what happened, to what, what to do
    ├── EditError           an edit that the document does not allow
    ├── FootageError        pictures that cannot be read (path, frame)
    │   └── FrameMissingError   this frame's file is not there; the rest of the footage is fine
    ├── ProjectError        a project that cannot be read or written (path)
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
    "ProjectError",
    "RenderError",
]


class GommageError(Exception):
    """Base of all errors that are shown to the user; `str()` is the sentence to show."""


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


class RenderError(GommageError):
    """Pictures that cannot be written."""


class FollowError(GommageError):
    """A follow that cannot begin: no area, too little of it in the picture, no texture."""


class Cancelled(BaseException):
    """Work was called off; a BaseException, so that `except Exception` does not swallow it."""

    def __init__(self, reason: str = "stopped") -> None:
        super().__init__(reason)
        self.reason = reason

"""The computation: no window, no Qt; usable from a script and tested alone."""

"""The command line: everything that needs no window."""

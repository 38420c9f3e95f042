"""The five steps: a page of the panel each, and their commands."""

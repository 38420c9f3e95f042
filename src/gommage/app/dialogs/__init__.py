"""Dialogs: opening footage, rendering, all keys."""

"""Look: tokens, style, icons, fonts, rows of controls."""

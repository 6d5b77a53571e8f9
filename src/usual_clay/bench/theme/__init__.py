"""Looks: palette, fonts, icons and the style sheet of the light theme, Paper."""

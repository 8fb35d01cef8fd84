"""Colours, type, icons and the style sheet."""

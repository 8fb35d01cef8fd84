"""Checks of a recipe before it starts: one small function a check."""

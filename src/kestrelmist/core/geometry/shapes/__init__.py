"""Shapes of marks; each registers itself."""

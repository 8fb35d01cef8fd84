"""Slices drawn by hand, and what lies between them."""

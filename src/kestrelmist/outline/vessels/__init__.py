"""Vessels followed from click to click, along their middle."""

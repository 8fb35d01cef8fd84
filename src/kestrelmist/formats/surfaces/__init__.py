"""Formats of surfaces, one module each."""

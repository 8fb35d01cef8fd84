"""Solid scenes: what is in them as frozen data, and the process that draws them."""

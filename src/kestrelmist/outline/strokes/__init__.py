"""From a few strokes inside and outside to the object."""

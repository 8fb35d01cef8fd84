"""A field that is off resonance: its map, and the distortion that it makes."""

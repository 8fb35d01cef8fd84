"""File formats: one module a family; sniff, read lazily, write whole."""

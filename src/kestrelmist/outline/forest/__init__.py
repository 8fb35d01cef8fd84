"""A classifier of voxels that learns from strokes: features, a random forest, and what it finds."""

"""A grid of pictures with their boxes, over the Light table."""

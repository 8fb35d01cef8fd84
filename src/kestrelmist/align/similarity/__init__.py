"""Measures of how alike two images are; each file registers its own."""

"""One label map of several: of raters, or of atlases."""

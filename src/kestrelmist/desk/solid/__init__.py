"""The 3D pane."""

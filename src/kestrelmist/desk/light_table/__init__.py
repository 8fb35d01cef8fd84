"""The centre of the window: panes in which images are looked at and worked on."""

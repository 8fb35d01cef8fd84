"""Stand-ins for what is not there on every desk: a camera on a microscope."""

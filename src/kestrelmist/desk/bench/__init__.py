"""The Bench: what the present stage offers for the image in the lead pane."""

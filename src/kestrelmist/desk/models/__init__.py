"""What the window shows and what hands do to it, as state with signals; no widgets."""

"""The Qt application. Views hold no truth: gestures become commands, commands change the study, signals redraw."""

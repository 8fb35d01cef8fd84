"""The Qt application. Views hold no truth: gestures become commands, commands change the study, signals redraw."""

import gc

# hundreds of modules and widgets are made and none of them goes: looking through them finds no garbage
gc.set_threshold(50_000)

"""The window round everything: its bars, the Finder, how it opens, is left and ends."""

"""Tools that need a hand on the picture. Each turns a press, a drag and a release into one step that can be undone."""

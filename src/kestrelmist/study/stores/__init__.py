"""Stores: how each kind of thing is kept in a study. One module a kind."""

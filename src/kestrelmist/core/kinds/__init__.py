"""Kinds: what can go into an operation, come out of it, or be kept in a study. One module a family."""

"""Kinds of things that are looked at."""

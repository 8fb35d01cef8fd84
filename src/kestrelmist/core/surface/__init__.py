"""Surfaces: what they are, and how they are made of labels, smoothed, simplified and turned back into labels."""

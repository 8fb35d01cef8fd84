"""Surfaces made of labels, and labels made of surfaces."""

"""Contours: marks that become labels, and labels that become marks."""

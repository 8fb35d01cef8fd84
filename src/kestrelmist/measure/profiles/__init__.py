"""Profiles along and across marks, and the peaks in them."""

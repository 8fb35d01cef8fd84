"""Painters of files: each draws a page and registers itself under the endings that it writes."""

"""Companions of forms, one operation each."""

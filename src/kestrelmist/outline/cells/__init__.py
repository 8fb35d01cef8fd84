"""Cells, nuclei and whatever else is round: found, told apart, numbered, measured."""

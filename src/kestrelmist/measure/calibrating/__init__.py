"""Calibrations: how large a pixel is, measured on known lengths, and given to images."""

"""Checks that watch the study and say what they notice in one sentence."""

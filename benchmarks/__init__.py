"""Ratios to named baselines, both measured in the same run."""

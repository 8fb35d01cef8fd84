"""The pages of the Bench."""

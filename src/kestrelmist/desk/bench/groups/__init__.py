"""The groups on the pages of the Bench."""

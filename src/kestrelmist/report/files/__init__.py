"""Files of things that a report shows."""

"""The Shelf, and what lies on the table."""

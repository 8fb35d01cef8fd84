"""Contact sheets: many slices on one page."""

"""Labels for others: masks, contours and surfaces in open formats."""

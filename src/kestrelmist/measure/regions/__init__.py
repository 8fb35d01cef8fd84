"""Statistics of regions: labels, cells and marks that close."""

"""What is drawn: marks with world coordinates, their shapes, and how they are hit and moved. Knows no window."""

"""What changes the grid of an image, and keeps every voxel at its place in the world."""

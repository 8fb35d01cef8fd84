"""What changes the values of an image: arithmetic, noise, uneven brightness, scales."""

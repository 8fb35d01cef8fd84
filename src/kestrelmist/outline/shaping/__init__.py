"""Labels made larger, smaller and smoother, by lengths in the world."""

"""Pictures taken with a camera."""

"""Height maps, levelled."""

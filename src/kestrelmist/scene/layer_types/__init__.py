"""Layer types: what can lie in a stack, and how each is drawn. Each registers itself."""

"""What is taken out of a body: the body itself, the brain, its tissues."""

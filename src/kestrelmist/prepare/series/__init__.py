"""What is done along time: motion, slice times, courses, single volumes."""

"""The study folder: catalogue, images, labels and their journal, logbook, recipes."""

"""What was done: changes that can be turned round, their history, the logbook, versions."""

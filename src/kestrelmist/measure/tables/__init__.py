"""Tables of measurements: gates that become classes, groups compared."""

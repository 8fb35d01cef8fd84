"""The Drawer: tables, courses, sections, marks, subjects, and the logbook."""

"""Operations on the study itself: its things, its history, its logbook."""

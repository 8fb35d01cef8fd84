"""Operations that take results out of a study; none yet, the Report Bench opens the Drawer."""

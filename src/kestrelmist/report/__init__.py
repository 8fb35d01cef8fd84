"""Operations that take results out of a study."""

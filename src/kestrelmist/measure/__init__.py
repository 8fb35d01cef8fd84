"""Operations that turn images and labels into tables."""

"""Operations that place images in the world."""

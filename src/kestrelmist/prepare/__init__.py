"""Operations that make new images from images."""

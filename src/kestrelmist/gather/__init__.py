"""Operations that bring data in."""

"""Operations and tools that mark anatomy as labels."""

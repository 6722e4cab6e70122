"""Operations in other processes, with progress and stop."""

"""What must be right before anything is handed over."""

"""What each command does and shows."""

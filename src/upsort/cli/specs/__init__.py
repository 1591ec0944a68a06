"""What each command takes: its options, as light data."""

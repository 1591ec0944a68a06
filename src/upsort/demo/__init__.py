"""The demo corpus of the Fernhollow enquiry desk, and what made it. All of it is invented."""

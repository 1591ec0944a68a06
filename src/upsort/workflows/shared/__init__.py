"""What the commands share: reading, counting, candidate plans, scored rows, pages and figures."""

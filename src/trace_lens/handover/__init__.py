"""What leaves the house: reports for each side, and the questions that are still open."""

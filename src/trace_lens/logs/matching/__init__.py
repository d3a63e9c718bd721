"""Events matched with attempts: people, clocks, weights."""

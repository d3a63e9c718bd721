"""Messages put together into attempts: what one try at signing in consists of, as far as the sources show it."""

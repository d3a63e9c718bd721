"""The way that the browser took: its hops, redirects, cookies, and how it ended. Asked of every sign-in."""

"""What the terminal shows, as lines of styled spans; plain text needs no library, colour is Rich's."""

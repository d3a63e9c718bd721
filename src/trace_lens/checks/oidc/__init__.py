"""The checks of OpenID Connect sign-ins, one module a stage."""

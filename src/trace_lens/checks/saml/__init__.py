"""The questions about a SAML sign-in: one module a stage, and the case that they look at."""

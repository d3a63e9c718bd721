"""OpenID Connect and OAuth 2.0: JOSE, tokens, documents, requests and answers. Bytes in, objects out."""

"""SAML 2.0 messages as typed objects that know where each value stands, and XML Signature.

Bytes come in, objects go out: nothing here touches a file, a socket, a clock or a setting, and nothing here decides
what a finding is.
"""

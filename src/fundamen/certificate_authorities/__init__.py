"""A directory's certificate authority: its state, and making it again under its name with its own key.

As long as the key and the name stay, what the authority has issued stays valid under its new certificate (RFC 5280,
section 6.1.3: a chain holds by the issuer's name and key). So the key is kept wherever there is one.
"""

"""Raw bus traffic: frames, databases, and the signals decoded from both."""

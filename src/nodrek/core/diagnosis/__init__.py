"""From evidence to odds, to the next check, to what is worth repairing."""

"""`drovik pictures`: what a prep makes of the pictures, and what looks wrong with them."""

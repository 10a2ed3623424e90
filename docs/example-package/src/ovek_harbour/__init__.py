"""What one harbour adds to Ovek: an example of a package of one's own."""

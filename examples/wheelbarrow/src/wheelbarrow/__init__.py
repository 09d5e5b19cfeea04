"""Your own kinds for Tenuto."""

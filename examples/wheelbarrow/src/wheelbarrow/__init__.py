"""Kinds of one's own for Tenuto."""

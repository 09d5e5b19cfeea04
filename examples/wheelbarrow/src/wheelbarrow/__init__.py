"""Kinds of your own for Tenuto."""

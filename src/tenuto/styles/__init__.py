"""Styles: from shaped positions to shares of speed, and to a velocity."""

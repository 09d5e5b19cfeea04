"""Paths: scripts that are driven, and odometry."""

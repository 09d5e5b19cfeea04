"""What the controls mean for the robot: from shaped positions to shares of speed, and to a velocity."""

"""From raw numbers to shaped positions: travel, centring, dead zones, curves, smoothing, switches."""

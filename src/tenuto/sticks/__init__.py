"""From raw numbers to what the driver's hand means: travel, centring, dead zones, curves, smoothing, switches."""

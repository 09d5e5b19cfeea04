"""What prevents a computer from driving a robot: rights, ports, pads, clocks and files, each with its remedy."""

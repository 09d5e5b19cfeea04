"""Curves: the shape of a stick after its dead zone. One kind per file; its name is the key under [controls.NAME]."""

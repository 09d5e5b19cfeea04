"""Curves: what is made of a stick after its dead zone. A kind a file; its name is the key under [controls.NAME]."""

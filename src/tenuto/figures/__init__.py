"""Figures. Each function takes its data and an ``ax``, and draws nothing but that."""

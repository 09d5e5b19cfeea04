"""Kinds of things, their options, and what is made from these: tables of a profile and short texts."""

"""Kinds of things, their options, and what is made from them: tables of a profile and short texts."""

"""Profiles: the TOML file that says how one robot is driven, read, checked and turned into a plan."""

from tenuto.profile.load import load_profile, parse_profile
from tenuto.profile.profile import Profile

__all__ = ["Profile", "load_profile", "parse_profile"]

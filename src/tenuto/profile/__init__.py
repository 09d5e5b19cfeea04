"""Profiles: the TOML file that says how one robot is driven, read, checked and turned into a plan."""

import tenuto.profile.patch  # noqa: F401 - it sets how `Profile` changes its text
from tenuto.profile.load import load_profile, parse_profile
from tenuto.profile.profile import Profile

__all__ = ["Profile", "load_profile", "parse_profile"]

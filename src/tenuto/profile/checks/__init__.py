"""Checks of a profile whose keys are each valid: errors between tables, and warnings."""

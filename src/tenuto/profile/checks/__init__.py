"""All that can be found wrong with a profile whose keys are right one by one: errors between tables, and warnings."""

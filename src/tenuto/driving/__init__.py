"""May it move, how fast may that change, and who drives: guard, drivers, limits, pipeline, plan and tick."""

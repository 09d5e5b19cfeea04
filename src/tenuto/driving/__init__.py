"""The guard, the drivers, the limits, the pipeline, the plan and the tick."""

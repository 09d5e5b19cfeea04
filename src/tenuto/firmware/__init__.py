"""The same profile on a microcontroller: C that is made from the plan, and proven equal to the pipeline here."""

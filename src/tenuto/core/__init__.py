"""The stages from a raw number to a wheel speed, and their types. Pure: time is an argument.

Each stage is usable by itself::

    from tenuto.core import travel, shaping, mixing, demand, guard, limits, chassis
"""

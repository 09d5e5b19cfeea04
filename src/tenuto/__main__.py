"""``python -m tenuto`` is the command ``tenuto``."""

from tenuto.cli import main

main()

"""python -m hemtra"""

from hemtra.cli import main

main()

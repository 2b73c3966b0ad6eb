"""`python -m mosscrate.desk`."""

from mosscrate.desk import main

main()

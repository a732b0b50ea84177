"""Runs each line that comes as a statement in Spark, prints the rows that it gives, and then a line that says done."""

import sys

from plain import tell
from session import open_session

spark = open_session(*sys.argv[1:8])
for line in sys.stdin:
    for row in spark.sql(line).collect():
        tell("", row.asDict())
    print("done", flush=True)

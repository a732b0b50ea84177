"""Prints the rows of tables that the catalogue names, as Spark reads them. Of TABLE@MARK those that were marked."""

import sys

from plain import tell
from session import open_session

place, tables = sys.argv[1:8], sys.argv[8:]
spark = open_session(*place)
for named in tables:
    table, _, mark = named.partition("@")
    version = f" VERSION AS OF '{mark}'" if mark else ""
    for row in spark.sql(f"SELECT * FROM noemata.{table}{version}").collect():
        tell(named, row.asDict())

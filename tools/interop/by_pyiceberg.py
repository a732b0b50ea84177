"""Prints the rows of tables that the catalogue names, as PyIceberg reads them."""

import sys

from pyiceberg.catalog.sql import SqlCatalog

from plain import tell

host, port, database, user, password, *tables = sys.argv[1:]
catalogue = SqlCatalog("noemata", uri=f"postgresql+psycopg2://{user}:{password}@{host}:{port}/{database}")
for table in tables:
    for row in catalogue.load_table(table).scan().to_arrow().to_pylist():
        tell(table, row)

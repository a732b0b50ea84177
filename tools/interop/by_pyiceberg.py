"""Prints the rows of tables that the catalogue names, as PyIceberg reads them; of TABLE@MARK those that were marked."""

import sys

from pyiceberg.catalog.sql import SqlCatalog

from plain import tell

host, port, database, user, password, *tables = sys.argv[1:]
catalogue = SqlCatalog("noemata", uri=f"postgresql+psycopg2://{user}:{password}@{host}:{port}/{database}")
for named in tables:
    table, _, mark = named.partition("@")
    loaded = catalogue.load_table(table)
    scan = loaded.scan(snapshot_id=loaded.snapshot_by_name(mark).snapshot_id) if mark else loaded.scan()
    for row in scan.to_arrow().to_pylist():
        tell(named, row)

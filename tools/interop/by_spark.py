"""Prints the rows of tables that the catalogue names, as Spark reads them: a distributed engine, here on one machine. Of
TABLE@MARK those that were marked."""

import os
import sys

from pyspark.sql import SparkSession

from plain import tell

jars, folder, host, port, database, user, password, *tables = sys.argv[1:]
os.environ["TZ"] = "UTC"
spark = (
    SparkSession.builder.master("local[2]")
    .config("spark.jars", jars)
    .config("spark.ui.enabled", "false")
    .config("spark.sql.session.timeZone", "UTC")
    .config("spark.driver.extraJavaOptions", "-Duser.timezone=UTC")
    .config("spark.driver.host", "127.0.0.1")
    .config("spark.sql.extensions", "org.apache.iceberg.spark.extensions.IcebergSparkSessionExtensions")
    .config("spark.sql.catalog.noemata", "org.apache.iceberg.spark.SparkCatalog")
    .config("spark.sql.catalog.noemata.type", "jdbc")
    .config("spark.sql.catalog.noemata.uri", f"jdbc:postgresql://{host}:{port}/{database}")
    .config("spark.sql.catalog.noemata.jdbc.user", user)
    .config("spark.sql.catalog.noemata.jdbc.password", password)
    .config("spark.sql.catalog.noemata.jdbc.schema-version", "V1")
    .config("spark.sql.catalog.noemata.warehouse", folder)
    .getOrCreate()
)
for named in tables:
    table, _, mark = named.partition("@")
    version = f" VERSION AS OF '{mark}'" if mark else ""
    for row in spark.sql(f"SELECT * FROM noemata.{table}{version}").collect():
        tell(named, row.asDict())

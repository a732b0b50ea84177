"""A session of Spark with a catalogue of Iceberg tables in PostgreSQL: a distributed engine, here on one machine."""

import os

from pyspark.sql import SparkSession


def open_session(jars, folder, host, port, database, user, password):
    os.environ["TZ"] = "UTC"
    return (
        SparkSession.builder.master("local[2]")
        .config("spark.jars", jars)
        .config("spark.ui.enabled", "false")
        .config("spark.sql.session.timeZone", "UTC")
        .config("spark.driver.extraJavaOptions", "-Duser.timezone=UTC")
        .config("spark.driver.host", "127.0.0.1")
        .config("spark.sql.shuffle.partitions", "2")
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

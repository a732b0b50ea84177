"""Values of a row as plain texts, so that rows which other programs have read can be compared."""

import datetime
import decimal
import json
import uuid


def plain(value):
    match value:
        case None:
            return None
        case bool():
            return "true" if value else "false"
        case float():
            return repr(value)
        case decimal.Decimal():
            return format(value, "f")
        case datetime.datetime():
            return value.replace(tzinfo=None).isoformat(timespec="microseconds")
        case datetime.time():
            return value.isoformat(timespec="microseconds")
        case datetime.date():
            return value.isoformat()
        case bytes() | bytearray():
            return bytes(value).hex()
        case uuid.UUID():
            return str(value)
    return str(value)


def tell(table, row):
    print(json.dumps({"table": table, "row": {name: plain(value) for name, value in row.items()}}))

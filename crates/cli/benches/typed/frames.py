"""What the bench of typed tables asks of two libraries of data frames.

Usage: frames.py LIBRARY TASK OUTPUT FILE...
"""

import sys

library, task, out, *files = sys.argv[1:]

if library == "polars":
    import polars as pl

    types = {
        "time": pl.Datetime("us"),
        "station": pl.String,
        "level_m": pl.Decimal(18, 3),
        "wind_mps": pl.Decimal(18, 1),
        "note": pl.String,
        "day": pl.String,
        "serial": pl.Int64,
    }
    text = {name: pl.String for name in types}

    def scan(schema):
        if files[0].endswith(".jsonl"):
            return pl.scan_ndjson(files)
        tables = [pl.scan_csv(file, schema_overrides=schema) for file in files]
        return pl.concat(tables, how="diagonal")

    day = pl.col("day").str.to_date("%d.%m.%Y")
    if task == "parquet":
        scan(types).with_columns(day).sink_parquet(out, compression="snappy")
    elif task == "rules":
        number = [pl.col(name).cast(types[name], strict=False) for name in ("level_m", "wind_mps", "serial")]
        time = pl.col("time").str.to_datetime("%Y-%m-%dT%H:%M:%S")
        table = scan(text).with_columns(time, day, *number)
        fits = pl.col("level_m").is_not_null() & pl.col("level_m").is_between(0, 100)
        table.filter(fits).sink_csv(out, datetime_format="%Y-%m-%dT%H:%M:%S")
    elif task == "lines":
        scan(types).sink_ndjson(out)
    elif task == "once":
        table = scan(text).unique(subset=["time", "serial"], keep="first", maintain_order=True)
        table.sink_csv(out)
    elif task == "from-lines":
        scan(types).sink_csv(out)
else:
    import duckdb

    connection = duckdb.connect()
    names = ", ".join(f"'{file}'" for file in files)
    types = (
        "{'time': 'TIMESTAMP', 'station': 'VARCHAR', 'level_m': 'DECIMAL(18, 3)',"
        " 'wind_mps': 'DECIMAL(18, 1)', 'note': 'VARCHAR', 'day': 'DATE', 'serial': 'BIGINT'}"
    )
    typed = f"read_csv([{names}], header = true, union_by_name = true, types = {types}, dateformat = '%d.%m.%Y')"
    text = f"read_csv([{names}], header = true, union_by_name = true, all_varchar = true)"
    if task == "parquet":
        connection.execute(f"copy (from {typed}) to '{out}' (format parquet, compression snappy)")
    elif task == "rules":
        connection.execute(
            f"""copy (
              select time::timestamp as time, station, level_m, wind_mps::decimal(18, 1) as wind_mps,
                     note, strptime(day, '%d.%m.%Y')::date as day,
                     serial::bigint as serial
              from (select * replace (try_cast(level_m as decimal(18, 3)) as level_m) from {text})
              where level_m between 0 and 100
            ) to '{out}' (format csv, header)"""
        )
    elif task == "lines":
        connection.execute(f"copy (from {typed}) to '{out}' (format json)")
    elif task == "once":
        connection.execute(
            f"copy (select distinct on (time, serial) * from {text}) to '{out}' (format csv, header)"
        )
    elif task == "from-lines":
        connection.execute(f"copy (from read_json([{names}])) to '{out}' (format csv, header)")

"""Rules over partitions of Apache Spark, with the results of one machine.

    pip install pyspark          # brings Spark; Java 17 or later has to be there
    kyanite demo ferries
    python fares.py ferries

Groups: each partition is piped through `kyanite reshape --partial`, which gives its state; the states are joined two by two where they
are, and `kyanite combine` ends the run. Joins: both sides are partitioned by the key, so that what belongs together is in one partition, and
the rule runs over each with the other side as its source. Both results are compared with those of one process.
"""

import json
import pathlib
import subprocess
import sys
import tempfile

from pyspark.sql import SparkSession

HERE = pathlib.Path(__file__).resolve().parent
FARES, PORTS = str(HERE / "fares.kyr"), str(HERE / "ports.kyr")


def kyanite(*arguments, text=""):
    """What the program writes to standard output; what it says goes to standard error."""
    run = subprocess.run(["kyanite", *arguments], input=text, stdout=subprocess.PIPE, text=True)
    if run.returncode != 0:
        raise RuntimeError(f"kyanite {' '.join(arguments)} ended with status {run.returncode}")
    return run.stdout


def joined(lines):
    return "".join(f"{line}\n" for line in lines)


def state(number, lines):
    """The state of a partition."""
    arguments = ["reshape", FARES, "--from", "jsonl", "--partial", "--part", str(number)]
    yield kyanite(*arguments, text=joined(lines))


def both(one, other):
    """The state of two."""
    with tempfile.TemporaryDirectory() as folder:
        files = [pathlib.Path(folder, name) for name in ("one.state", "other.state")]
        for file, text in zip(files, (one, other)):
            file.write_text(text)
        return kyanite("combine", "--partial", *map(str, files))


def with_ports(lines, ports):
    """The bookings of a partition with the ports of the same partition."""
    lines, ports = list(lines), list(ports)
    if not lines:
        return
    with tempfile.TemporaryDirectory() as folder:
        file = pathlib.Path(folder, "ports.jsonl")
        file.write_text(joined(ports))
        arguments = ["reshape", PORTS, "--from", "jsonl", "--to", "jsonl", "--source", f"ports={file}"]
        out = kyanite(*arguments, text=joined(lines))
        yield from out.splitlines()


def keyed(path, key):
    """The records of an input as lines of JSON, each with its key."""
    pairs = kyanite("query", f"for r in $[*] return [{key}, encode(\"json\", r)]", path, "--to", "jsonl")
    return [tuple(json.loads(pair)) for pair in pairs.splitlines()]


def main(folder):
    bookings, ports = f"{folder}/bookings.jsonl", f"{folder}/ports.csv"
    spark = SparkSession.builder.master("local[2]").appName("fares").getOrCreate()
    try:
        context = spark.sparkContext
        lines = context.textFile(bookings, 4)
        whole = lines.mapPartitionsWithIndex(state).treeReduce(both)
        file = pathlib.Path(tempfile.mkdtemp(), "whole.state")
        file.write_text(whole)
        fares = kyanite("combine", str(file), "--to", "csv")
        assert fares == kyanite("reshape", FARES, bookings, "--to", "csv"), "the groups differ"
        print(fares, end="")

        left = context.parallelize(keyed(bookings, "r.leg.from")).partitionBy(3)
        right = context.parallelize(keyed(ports, "r.code")).partitionBy(3)
        pairs = left.mapPartitions(lambda part: [[record for _, record in part]]).zip(
            right.mapPartitions(lambda part: [[record for _, record in part]])
        )
        found = sorted(pairs.flatMap(lambda pair: with_ports(*pair)).collect())
        alone = kyanite("reshape", PORTS, bookings, "--to", "jsonl", "--source", f"ports={ports}")
        assert found == sorted(alone.splitlines()), "the joined records differ"
        print(f"{len(found)} bookings have a port; all is as on one machine")
    finally:
        spark.stop()


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "ferries")

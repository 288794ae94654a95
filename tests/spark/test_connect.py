"""Lanes of Spark whose driver is elsewhere, reached by Spark Connect: a real server on loopback."""

import os
import socket
import subprocess

from ivrell.core.servers.postgresql import free_port
from ivrell.core.spark.clusters import Clusters
from ivrell.core.spark.install import spark_home
from tests.support.comparisons import COUNTING, HEAD, TrialCase, approach
from tests.support.waiting import wait_until

IN_PYTHON = """
def answer(data, knobs, stage, spark):
    from pyspark.sql import functions as F

    return data.readings.groupBy("gauge").agg(F.count("*").alias("n"))
"""
IN_SQL = "SELECT gauge, count(*) AS n FROM readings GROUP BY gauge"


class Connect(TrialCase):
    def setUp(self):
        super().setUp()
        self.port = free_port()
        log = self.folder / "connect.log"
        home = spark_home()
        with log.open("wb") as said:
            server = subprocess.Popen(
                [
                    home / "bin" / "spark-submit", "--master", "local[2]",
                    "--class", "org.apache.spark.sql.connect.service.SparkConnectServer",
                    "--conf", f"spark.connect.grpc.binding.port={self.port}",
                    "--conf", "spark.connect.grpc.binding.address=127.0.0.1",
                    "--conf", "spark.ui.enabled=false", "--conf", "spark.driver.host=127.0.0.1",
                    "--conf", f"spark.sql.warehouse.dir={self.folder / 'warehouse'}",
                    "spark-internal",
                ],
                stdout=said, stderr=said, cwd=self.folder,
                env={**os.environ, "SPARK_HOME": str(home), "SPARK_LOCAL_IP": "127.0.0.1"},
            )  # fmt: skip
        self.addCleanup(server.wait)
        self.addCleanup(server.kill)
        wait_until(lambda: self.answers(server), log.read_text)
        self.registry = self.folder / "registry"
        self.registry.mkdir()
        Clusters(self.registry).add("far", f"sc://127.0.0.1:{self.port}", "", {})

    def answers(self, server):
        self.assertIsNone(server.poll(), (self.folder / "connect.log").read_text())
        try:
            socket.create_connection(("127.0.0.1", self.port), 1).close()
        except OSError:
            return False
        return True

    def test_lanes_agree_and_what_cannot_be_measured_is_not_told(self):
        text = HEAD + approach("here", COUNTING)
        text += approach("python", IN_PYTHON, "spark", input="parquet", at="far")
        text += approach("query", IN_SQL, "spark", input="parquet", at="far")
        trial = self.trial(text, runtimes=self.registry)
        found = trial.conduct()
        self.assertEqual({run.approach: run.error for run in trial.runs if run.error}, {})
        for lane in found.points[0].lanes:
            with self.subTest(lane.id):
                self.assertTrue(lane.agreement.agrees, lane.agreement.reasons)
                self.assertGreater(lane.elapsed.median, 0)
                if lane.id != "here":
                    self.assertIsNone(lane.cpu_total)
                    self.assertIsNone(lane.peak_memory)

"""The API of the machine: what it is and is doing, what runs on it, what is kept there."""

from django.conf import settings
from django.db import connection
from drf_spectacular.utils import OpenApiParameter, extend_schema
from procrastinate.contrib.django.models import ProcrastinateWorker
from rest_framework import status
from rest_framework.decorators import api_view
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ivrell.core.engines.registry import states
from ivrell.core.machine import busy_cores, snapshot
from ivrell.core.measure.noise import floor
from ivrell.core.recipe.databases.store import DatabaseStore
from ivrell.core.recipe.store import DataStore
from ivrell.core.runtimes import Runtimes
from ivrell.core.servers.own import Servers
from ivrell.core.spark.clusters import Clusters
from ivrell.server.asking import asked
from ivrell.server.jobs.models import Job
from ivrell.server.machine import shapes
from ivrell.server.replies import reply
from ivrell.server.trials.models import Trial


@extend_schema(responses=shapes.EngineList)
@api_view(["GET"])
def engines(request: Request) -> Response:
    """The engines and whether they are there."""
    return reply(shapes.EngineList(engines=states()))


class RuntimesView(APIView):
    """Other interpreters that lanes in Python may ask for."""

    for_owners = True

    @extend_schema(responses=shapes.RuntimeList, operation_id="runtimes")
    def get(self, request: Request) -> Response:
        """Those registered, looked at now."""
        return self._all()

    @extend_schema(
        request=shapes.NewRuntime, responses=shapes.RuntimeList, operation_id="add_runtime"
    )
    def post(self, request: Request) -> Response:
        """Register one."""
        given = asked(shapes.NewRuntime, request)
        Runtimes().add(given.name.strip(), given.interpreter.strip())
        return self._all()

    @extend_schema(
        parameters=[OpenApiParameter("name", str, required=True)],
        responses={200: shapes.RuntimeList},
        operation_id="remove_runtime",
    )
    def delete(self, request: Request) -> Response:
        """Forget one."""
        Runtimes().remove(request.query_params.get("name", ""))
        return self._all()

    def _all(self) -> Response:
        return reply(shapes.RuntimeList(runtimes=Runtimes().all()))


class ServersView(APIView):
    """Database servers of the user's own that lanes may ask for."""

    for_owners = True

    @extend_schema(responses=shapes.ServerList, operation_id="servers")
    def get(self, request: Request) -> Response:
        """Those registered, looked at now."""
        return self._all()

    @extend_schema(request=shapes.NewServer, responses=shapes.ServerList, operation_id="add_server")
    def post(self, request: Request) -> Response:
        """Register one."""
        given = asked(shapes.NewServer, request)
        Servers().add(given.name.strip(), given.address.strip(), given.password_from.strip())
        return self._all()

    @extend_schema(
        parameters=[OpenApiParameter("name", str, required=True)],
        responses={200: shapes.ServerList},
        operation_id="remove_server",
    )
    def delete(self, request: Request) -> Response:
        """Forget one; what was loaded there stays."""
        Servers().remove(request.query_params.get("name", ""))
        return self._all()

    def _all(self) -> Response:
        found = [
            shapes.ServerShape(
                name=one.name,
                address=one.address,
                version=one.version,
                seen=one.main_process is not None,
                problem=one.problem,
            )
            for one in Servers().all()
        ]
        return reply(shapes.ServerList(servers=found))


class ClustersView(APIView):
    """Places where Apache Spark runs that lanes may ask for."""

    for_owners = True

    @extend_schema(responses=shapes.ClusterList, operation_id="clusters")
    def get(self, request: Request) -> Response:
        """Those registered, looked at now."""
        return self._all()

    @extend_schema(
        request=shapes.NewCluster, responses=shapes.ClusterList, operation_id="add_cluster"
    )
    def post(self, request: Request) -> Response:
        """Register one."""
        given = asked(shapes.NewCluster, request)
        Clusters().add(
            given.name.strip(),
            given.address.strip(),
            given.storage.strip(),
            given.settings,
            given.worker_cores,
            given.worker_memory,
        )
        return self._all()

    @extend_schema(
        parameters=[OpenApiParameter("name", str, required=True)],
        responses={200: shapes.ClusterList},
        operation_id="remove_cluster",
    )
    def delete(self, request: Request) -> Response:
        """Forget one; what was made there stays."""
        Clusters().remove(request.query_params.get("name", ""))
        return self._all()

    def _all(self) -> Response:
        found = [
            shapes.ClusterShape(
                name=one.name,
                address=one.address,
                storage=one.storage,
                settings=dict(one.settings),
                words=one.words,
                problem=one.problem,
            )
            for one in Clusters().all()
        ]
        return reply(shapes.ClusterList(clusters=found))


@extend_schema(responses=shapes.MachineShape)
@api_view(["GET"])
def machine(request: Request) -> Response:
    """What this machine is and is doing."""
    found = snapshot(settings.IVRELL_DATA)
    found.busy_cores = busy_cores()
    noise = None
    if found.noise:
        floors = {str(rounds): floor(found.noise.logs, rounds) for rounds in (5, 10, 20)}
        noise = shapes.NoiseFloors(**dict(found.noise), floors=floors)
    return reply(shapes.MachineShape(**{**dict(found), "noise": noise}))


@extend_schema(request=None, responses={202: None}, operation_id="measure_noise")
@api_view(["POST"])
def noise(request: Request) -> Response:
    """Measure this machine's noise anew, when its turn comes; machine/ tells the outcome."""
    Job.objects.ask("noise")
    return Response(status=status.HTTP_202_ACCEPTED)


@extend_schema(methods=["GET"], responses=shapes.MadeData)
@extend_schema(methods=["DELETE"], responses=shapes.MadeData)
@api_view(["GET", "DELETE"])
def made(request: Request) -> Response:
    """Made data that is kept; DELETE clears it (it is made again when a trial needs it)."""
    store = DataStore(settings.IVRELL_DATA / "made")
    databases = DatabaseStore(settings.IVRELL_DATA / "loaded")
    if request.method == "DELETE":
        # Both refuse while a trial, a try or a making uses them, in whatever process.
        store.trim(0)
        databases.clear()
    shape = shapes.MadeData(
        limit_bytes=settings.MADE_LIMIT_BYTES,
        kept=store.kept(),
        loaded=[
            shapes.LoadedData(
                engine=loaded.engine,
                tables=[table.table for table in loaded.tables],
                rows=sum(table.rows for table in loaded.tables),
                indexes=[*loaded.keys, *loaded.indexes],
                size_bytes=loaded.size_bytes,
            )
            for loaded in databases.kept()
        ],
    )
    return reply(shape)


@extend_schema(responses=shapes.Now)
@api_view(["GET"])
def now(request: Request) -> Response:
    """Who is signed in and what the machine is doing; cheap, asked often."""
    trials = [one for one in Trial.objects.in_order() if one.job.machine_id is None]
    running = next((t for t in trials if t.state == Job.State.RUNNING), None)
    with connection.cursor() as cursor:
        cursor.execute(
            f"SELECT count(*) FROM {ProcrastinateWorker._meta.db_table} "
            "WHERE last_heartbeat > now() - interval '40 seconds'"
        )
        workers = cursor.fetchone()[0]
    under_way = Job.objects.under_way().filter(machine=None)
    shape = shapes.Now(
        user=request.user.get_username(),
        may_run=request.user.is_staff,
        trial=running.pk if running else None,
        comparison=running.comparison_id if running else None,
        comparison_name=running.comparison.name if running else None,
        waiting=sum(1 for trial in trials if trial.job.is_due),
        paused=sum(1 for trial in trials if trial.state == Job.State.PAUSED),
        worker=workers > 0,
        timing=under_way.filter(state=Job.State.RUNNING).exists(),
        noise=under_way.filter(kind="noise").exists(),
    )
    return reply(shape)

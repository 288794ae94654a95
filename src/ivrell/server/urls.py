"""Where everything is reached."""

from django.urls import URLPattern, URLResolver, include, path, re_path, register_converter
from rest_framework.routers import DefaultRouter

from ivrell.server.accounts import people
from ivrell.server.accounts.views import SignInView, enter, leave
from ivrell.server.audit import AuditView
from ivrell.server.comparisons.views import ComparisonViewSet
from ivrell.server.data import views as data
from ivrell.server.data.propose import ProposeView
from ivrell.server.help import help_page
from ivrell.server.machine import environments, machines, queue
from ivrell.server.machine import views as machine
from ivrell.server.page import page
from ivrell.server.permissions import ByRole
from ivrell.server.schema import SchemaView
from ivrell.server.schema import Shapes as Shapes
from ivrell.server.trials import bundles, challenges, costs, following, joined, schedules
from ivrell.server.trials import views as trials
from ivrell.server.trials.live import events


class Number:
    """A record's number, no longer than a record can have."""

    regex = r"[0-9]{1,18}"

    def to_python(self, value: str) -> int:
        return int(value)

    def to_url(self, value: int) -> str:
        return str(value)


register_converter(Number, "number")
router = DefaultRouter(use_regex_path=False)
router.include_root_view = False
router.include_format_suffixes = False
router.register("comparisons", ComparisonViewSet, basename="comparison")
router.register("trials", trials.TrialViewSet, basename="trial")

api: list[URLPattern | URLResolver] = [
    path("comparisons/propose/", ProposeView.as_view()),
    path("", include(router.urls)),
    path("comparisons/<number:comparison>/launch/", trials.launch),
    path("comparisons/<number:comparison>/estimate/", trials.EstimateView.as_view()),
    path("comparisons/<number:comparison>/challenge/", challenges.ChallengeView.as_view()),
    path("comparisons/<number:comparison>/try-all/", trials.TryAllView.as_view()),
    path("comparisons/<number:comparison>/history/", trials.HistoryView.as_view()),
    path("comparisons/<number:comparison>/schedule/", schedules.ScheduleView.as_view()),
    path("comparisons/<number:comparison>/thin/", trials.ThinningView.as_view()),
    path("comparisons/<number:comparison>/data/look/", data.LookView.as_view()),
    path("comparisons/<number:comparison>/data/rows/", data.RowsView.as_view()),
    path("comparisons/<number:comparison>/data/costs/", data.CostsView.as_view()),
    path("comparisons/<number:comparison>/data/making/", data.MakingView.as_view()),
    path("comparisons/<number:comparison>/data/sample/", data.SampleView.as_view()),
    path("compared/", trials.ComparedView.as_view()),
    path("prices/", costs.PricesView.as_view()),
    path("trials/<number:trial>/cost/", costs.CostView.as_view()),
    path("trials/<number:trial>/next/", following.NextView.as_view()),
    path("bundles/", bundles.BundlesView.as_view()),
    path("trials/<number:trial>/bundle/", bundles.BundleView.as_view()),
    path("kinds/", data.KindsView.as_view()),
    path("comparisons/<number:comparison>/lanes/<str:lane>/try/", trials.TryView.as_view()),
    path("engines/", machine.engines),
    path("runtimes/", machine.RuntimesView.as_view()),
    path("environments/", environments.EnvironmentsView.as_view()),
    path("servers/", machine.ServersView.as_view()),
    path("clusters/", machine.ClustersView.as_view()),
    path("machine/", machine.machine),
    path("machine/noise/", machine.noise),
    path("now/", machine.now),
    path("sign-in/", SignInView.as_view()),
    path("password/", people.PasswordView.as_view()),
    path("people/", people.PeopleView.as_view()),
    path("tokens/", people.TokensView.as_view()),
    path("audit/", AuditView.as_view()),
    path("worker/next/", joined.NextView.as_view()),
    path("worker/trials/<number:trial>/told/", joined.ToldView.as_view()),
    path("worker/trials/<number:trial>/brought/", joined.BroughtView.as_view()),
    path("machines/", machines.MachinesView.as_view()),
    path("queue/", queue.QueueView.as_view()),
    path("queue/<number:id>/due/", queue.put_off),
    path("queue/<number:id>/stop/", queue.stop),
    path("queue/<number:id>/pause/", queue.pause),
    path("queue/<number:id>/continue/", queue.go_on),
    path("made/", machine.made),
    path("schema/", SchemaView.as_view(permission_classes=[ByRole])),
]

handler404 = "ivrell.server.problems.nowhere"

urlpatterns = [
    path("enter/<str:token>", enter),
    path("leave", leave),
    path("live/trials/<number:trial>", events),
    path("api/", include(api)),
    re_path(r"^help/(?P<place>.*)$", help_page),
    re_path(r"^(?!api/|live/|assets/|help/).*$", page),
]

"""Where everything is reached."""

from django.urls import include, path, re_path
from drf_spectacular.views import SpectacularAPIView
from rest_framework.routers import DefaultRouter

from ivrell.server.accounts.views import enter, leave
from ivrell.server.comparisons.views import ComparisonViewSet
from ivrell.server.data import views as data
from ivrell.server.page import page
from ivrell.server.trials import views as trials
from ivrell.server.trials.live import events

router = DefaultRouter()
router.include_root_view = False
router.register("comparisons", ComparisonViewSet)
router.register("trials", trials.TrialViewSet)

api = [
    path("", include(router.urls)),
    path("comparisons/<int:comparison>/launch/", trials.launch),
    path("comparisons/<int:comparison>/data/look/", data.LookView.as_view()),
    path("comparisons/<int:comparison>/data/rows/", data.RowsView.as_view()),
    path("comparisons/<int:comparison>/data/costs/", data.CostsView.as_view()),
    path("comparisons/<int:comparison>/data/making/", data.MakingView.as_view()),
    path("comparisons/<int:comparison>/data/sample/", data.SampleView.as_view()),
    path("kinds/", data.KindsView.as_view()),
    path("comparisons/<int:comparison>/lanes/<str:lane>/try/", trials.TryView.as_view()),
    path("engines/", trials.engines),
    path("runtimes/", trials.RuntimesView.as_view()),
    path("servers/", trials.ServersView.as_view()),
    path("machine/", trials.machine),
    path("machine/noise/", trials.noise),
    path("now/", trials.now),
    path("made/", trials.made),
    path("schema/", SpectacularAPIView.as_view()),
]

urlpatterns = [
    path("enter/<str:token>", enter),
    path("leave", leave),
    path("live/trials/<int:trial>", events),
    path("api/", include(api)),
    re_path(r"^(?!api/|live/|assets/).*$", page),
]

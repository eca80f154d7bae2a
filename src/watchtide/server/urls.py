"""All addresses of the application."""

from django.urls import path, re_path
from django.views.generic import RedirectView
from drf_spectacular.views import SpectacularAPIView

from watchtide.server import api_storage as storage
from watchtide.server import pages, problems
from watchtide.server.boards import api as boards
from watchtide.server.cards import api as cards
from watchtide.server.incidents import api as incidents
from watchtide.server.jobs import api as jobs
from watchtide.server.logbook import api as logbook
from watchtide.server.lookouts import api as lookouts
from watchtide.server.lookouts import api_routes as routes
from watchtide.server.lookouts import pages as mail_pages
from watchtide.server.looks import api as looks
from watchtide.server.people import api as people
from watchtide.server.people import api_people as accounts
from watchtide.server.review import api as review
from watchtide.server.scans import api as scans
from watchtide.server.scans import api_plans as plans
from watchtide.server.scans import api_units as units
from watchtide.server.scans import api_workbench as workbench
from watchtide.server.streams import api as streams
from watchtide.server.streams import api_files as intake
from watchtide.server.streams import api_identity as identity
from watchtide.server.streams import api_live as live

API = "api/v1/"
# The page's own routes (web/src/app.tsx).
SCREENS = (
    r"^(?:$|workbench(?:/\d+)?$|review(?:/\d+)?$|incidents$|incidents/(?:proposed/)?\d+$|logbook(?:/effect)?$"
    r"|scorecards(?:/compare|/\d+)?$|published/\d+$|intake(?:/live|/identity|/streams|/formulas|/calendars)?$"
    r"|plans(?:/\d+)?$|lookouts(?:/\d+)?$|boards(?:/\d+)?$|look$|shared/[\w-]+$|settings(?:/you|/people|/tokens|/trail|/storage|/about)?$|join$)"
)

urlpatterns = [
    path("healthz", pages.healthz),
    path("readyz", pages.readyz),
    path(f"{API}schema", SpectacularAPIView.as_view(), name="schema"),
    path(f"{API}session", people.SessionView.as_view()),
    path(f"{API}events", jobs.events),
    path(f"{API}jobs", jobs.JobsView.as_view()),
    path(f"{API}jobs/<int:pk>", jobs.JobView.as_view()),
    path(f"{API}tide", scans.TideView.as_view()),
    path(f"{API}tide/rows", scans.TideRowsView.as_view()),
    path(f"{API}tide/ribbons", scans.RibbonsView.as_view()),
    path(f"{API}tide/looked", scans.LookedView.as_view()),
    path(f"{API}tide/columns", scans.ColumnsView.as_view()),
    path(f"{API}streams/samples.csv", streams.SamplesExportView.as_view()),
    path(f"{API}streams/forecast", workbench.ForecastView.as_view()),
    path(f"{API}streams/<int:pk>", scans.StreamView.as_view()),
    path(f"{API}catalogue", streams.CatalogueView.as_view()),
    path(f"{API}streams/<int:pk>/facts", streams.StreamEditView.as_view()),
    path(f"{API}streams/<int:pk>/retention", streams.ExpiryView.as_view()),
    path(f"{API}streams/<int:pk>/at", streams.CoarserView.as_view()),
    path(f"{API}streams/<int:pk>/samples", scans.SamplesView.as_view()),
    path(f"{API}scans", scans.ScansView.as_view()),
    path(f"{API}scans/<int:pk>", scans.ScanView.as_view()),
    path(f"{API}scans/<int:pk>/findings", scans.ScanFindingsView.as_view()),
    path(f"{API}scans/<int:pk>/adopt", scans.AdoptView.as_view()),
    path(f"{API}scans/<int:pk>/adoption", plans.AdoptionView.as_view()),
    path(f"{API}scans/<int:pk>/scorecard", cards.ScorecardView.as_view()),
    path(f"{API}scans/<int:pk>/scorecard/false", cards.FalseView.as_view()),
    path(f"{API}scans/<int:pk>/scorecard.<str:kind>", cards.CardFileView.as_view()),
    path(f"{API}scans/<int:pk>/level", cards.LevelView.as_view()),
    path(f"{API}scans/<int:pk>/publish", cards.PublishView.as_view()),
    path(f"{API}comparison", cards.ComparisonView.as_view()),
    path(f"{API}published", cards.PublishedListView.as_view()),
    path(f"{API}published/<int:pk>", cards.PublishedView.as_view()),
    path(f"{API}published/<int:pk>/since", cards.SinceView.as_view()),
    path(f"{API}published/<int:pk>/<str:name>", cards.PublishedFileView.as_view()),
    path(f"{API}scans/<int:pk>/streams/<int:stream>/window", scans.WindowView.as_view()),
    path(f"{API}scans/<int:pk>/streams/<int:stream>/curve", scans.CurveView.as_view()),
    path(f"{API}scans/<int:pk>/streams/<int:stream>/examination", workbench.ExaminationView.as_view()),
    path(f"{API}scans/<int:pk>/streams/<int:stream>/against/<int:other>", workbench.AgainstView.as_view()),
    path(f"{API}scans/<int:pk>/streams/<int:stream>/fold", workbench.FoldView.as_view()),
    path(f"{API}scans/<int:pk>/streams/<int:stream>/forms", workbench.FormsView.as_view()),
    path(f"{API}scans/<int:pk>/streams/<int:stream>/units", units.UnitsView.as_view()),
    path(f"{API}scans/<int:pk>/streams/<int:stream>/units/drawn", units.DrawnView.as_view()),
    path(f"{API}scans/<int:pk>/streams/<int:stream>/points.csv", workbench.PointsView.as_view()),
    path(f"{API}findings/<int:pk>/take", workbench.TakeView.as_view()),
    path(f"{API}findings/<int:pk>/explain", workbench.ExplainView.as_view()),
    path(f"{API}plans", plans.PlansView.as_view()),
    path(f"{API}plans/check", scans.PlanCheckView.as_view()),
    path(f"{API}plans/<int:pk>/trend", cards.TrendView.as_view()),
    path(f"{API}plans/<int:pk>/versions", plans.PlanVersionsView.as_view()),
    path(f"{API}plans/<int:pk>/uses", plans.PlanUsesView.as_view()),
    path(f"{API}review", scans.ReviewView.as_view()),
    path(f"{API}findings/<int:pk>", scans.FindingView.as_view()),
    path(f"{API}findings/<int:pk>/verdict", scans.VerdictView.as_view()),
    path(f"{API}incidents", incidents.IncidentsView.as_view()),
    path(f"{API}incidents/proposed/<int:finding>", incidents.ProposalView.as_view()),
    path(f"{API}incidents/<int:pk>", incidents.IncidentView.as_view()),
    path(f"{API}incidents/<int:pk>/findings", incidents.PartsView.as_view()),
    path(f"{API}incidents/<int:pk>/verdict", incidents.IncidentVerdictView.as_view()),
    path(f"{API}incidents/<int:pk>/verdict/undo", incidents.TakeBackView.as_view()),
    path(f"{API}rounds", review.RoundsView.as_view()),
    path(f"{API}rounds/<int:pk>", review.RoundView.as_view()),
    path(f"{API}rounds/<int:pk>/next", review.NextView.as_view()),
    path(f"{API}rounds/<int:pk>/undo", review.UndoJudgementView.as_view()),
    path(f"{API}rounds/<int:pk>/items/<int:item>/verdict", review.ItemVerdictView.as_view()),
    path(f"{API}rounds/<int:pk>/items/<int:item>/settle", review.SettleView.as_view()),
    path(f"{API}logbook", logbook.EntriesView.as_view()),
    path(f"{API}logbook/import", logbook.ImportView.as_view()),
    path(f"{API}logbook/import/look", logbook.LookView.as_view()),
    path(f"{API}logbook/effect", cards.EffectView.as_view()),
    path(f"{API}logbook/bulk", logbook.BulkView.as_view()),
    path(f"{API}logbook/lanes", logbook.LanesView.as_view()),
    path(f"{API}logbook/changes", logbook.ChangeSetsView.as_view()),
    path(f"{API}logbook/changes/<int:pk>/undo", logbook.UndoChangeSetView.as_view()),
    path(f"{API}logbook/quiet", logbook.QuietsView.as_view()),
    path(f"{API}logbook/quiet/<int:pk>", logbook.QuietView.as_view()),
    path(f"{API}logbook/export", logbook.ExportView.as_view()),
    path(f"{API}logbook/<int:pk>", logbook.EntryView.as_view()),
    path(f"{API}logbook/<int:pk>/restore", logbook.RestoreView.as_view()),
    path(f"{API}logbook/<int:pk>/revisions", logbook.RevisionsView.as_view()),
    path(f"{API}logbook/<int:pk>/revisions/<int:revision>/return", logbook.ReturnView.as_view()),
    path(f"{API}uploads", intake.UploadsView.as_view()),
    path(f"{API}uploads/<int:pk>/preview", intake.PreviewView.as_view()),
    path(f"{API}uploads/<int:pk>/aside", intake.AsideView.as_view()),
    path(f"{API}uploads/<int:pk>/store", intake.StoreView.as_view()),
    path(f"{API}layouts", intake.KeptLayoutsView.as_view()),
    path(f"{API}layouts/<int:pk>", intake.KeptLayoutView.as_view()),
    path(f"{API}batches", intake.BatchesView.as_view()),
    path(f"{API}batches/<int:pk>/undo", intake.UndoView.as_view()),
    path(f"{API}batches/<int:pk>/aside.csv", intake.BatchAsideView.as_view()),
    path(f"{API}doors", intake.DoorsView.as_view()),
    path(f"{API}push", live.JsonPushView.as_view()),
    path("v1/metrics", live.OtlpView.as_view()),
    path(f"{API}feeds", live.FeedsView.as_view()),
    path(f"{API}feeds/<int:pk>", live.FeedView.as_view()),
    path(f"{API}feeds/<int:pk>/pull", live.PullView.as_view()),
    path(f"{API}identity", identity.IdentityView.as_view()),
    path(f"{API}identity/preview", identity.IdentityPreviewView.as_view()),
    path(f"{API}identity/<int:pk>/undo", identity.IdentityUndoView.as_view()),
    path(f"{API}formulas", live.DerivedsView.as_view()),
    path(f"{API}formulas/<int:pk>", live.DerivedView.as_view()),
    path(f"{API}calendars", live.CalendarsView.as_view()),
    path(f"{API}calendars/days", live.DaysView.as_view()),
    path(f"{API}calendars/<int:pk>", live.CalendarView.as_view()),
    path(f"{API}lookouts", lookouts.LookoutsView.as_view()),
    path(f"{API}lookouts/<int:pk>", lookouts.LookoutView.as_view()),
    path(f"{API}lookouts/<int:pk>/streams", lookouts.LookoutStreamsView.as_view()),
    path(f"{API}lookouts/<int:pk>/findings.csv", lookouts.LookoutFindingsView.as_view()),
    path(f"{API}lookouts/<int:pk>/precision", lookouts.LookoutPrecisionView.as_view()),
    path(f"{API}lookouts/<int:pk>/corrections", lookouts.LookoutCorrectionsView.as_view()),
    path(f"{API}lookouts/<int:pk>/rehearsal", lookouts.RehearsalView.as_view()),
    path(f"{API}lookouts/<int:pk>/feed.atom", lookouts.LookoutFeedView.as_view()),
    path(f"{API}lookouts/<int:pk>/points.csv", lookouts.LookoutPointsView.as_view()),
    path(f"{API}routes", routes.RoutesView.as_view()),
    path(f"{API}routes/<int:pk>", routes.RouteView.as_view()),
    path(f"{API}routes/<int:pk>/test", routes.RouteTestView.as_view()),
    path(f"{API}routes/<int:pk>/ask", routes.RouteAskView.as_view()),
    path(f"{API}outbox", routes.OutboxView.as_view()),
    path(f"{API}outbox/<int:pk>/resend", routes.ResendView.as_view()),
    path(f"{API}look", looks.LookView.as_view()),
    path(f"{API}mornings", looks.MorningsView.as_view()),
    path(f"{API}mornings/<int:pk>", looks.MorningView.as_view()),
    path(f"{API}boards", boards.BoardsView.as_view()),
    path(f"{API}boards/<int:pk>", boards.BoardView.as_view()),
    path(f"{API}boards/<int:pk>/panes/<int:place>", boards.PaneView.as_view()),
    path(f"{API}boards/<int:pk>/share", boards.ShareView.as_view()),
    path(f"{API}boards/<int:pk>/share/<int:link>", boards.LinkView.as_view()),
    path(f"{API}shared/<str:text>", boards.SharedBoardView.as_view()),
    path(f"{API}shared/<str:text>/panes/<int:place>", boards.SharedPaneView.as_view()),
    path(f"{API}storage", storage.StorageView.as_view()),
    path(f"{API}people", accounts.PeopleView.as_view()),
    path(f"{API}people/<int:pk>", accounts.PersonView.as_view()),
    path(f"{API}people/<int:pk>/link", accounts.PersonLinkView.as_view()),
    path(f"{API}people/<int:pk>/sessions", accounts.PersonSessionsView.as_view()),
    path(f"{API}sessions", accounts.SessionsView.as_view()),
    path(f"{API}sessions/<int:pk>", accounts.OneSessionView.as_view()),
    path(f"{API}session/password", accounts.PasswordView.as_view()),
    path(f"{API}links/look", accounts.LookLinkView.as_view()),
    path(f"{API}links/use", accounts.UseLinkView.as_view()),
    path(f"{API}trail", people.TrailView.as_view()),
    path(f"{API}trail.jsonl", people.TrailExportView.as_view()),
    path(f"{API}tokens", people.TokensView.as_view()),
    path(f"{API}tokens/<int:pk>", people.TokenView.as_view()),
    path("metrics", pages.metrics),
    path("confirm/<str:text>", mail_pages.confirm),
    path("verdict/<str:text>", mail_pages.verdict),
    path("guide", RedirectView.as_view(url="/guide/", permanent=True)),
    path("guide/", pages.guide),
    path("guide/<path:path>", pages.guide),
    re_path(SCREENS, pages.shell),
    # Every other address gets the page too, which says that there is none; the API's and the static files' say so themselves.
    re_path(r"^(?!api/|static/|v1/).*$", pages.no_such_screen),
]


def _handler(code: int):
    def handle(request, exception=None):
        return problems.plain(request, exception, code=code)

    return handle


handler400, handler403, handler404, handler500 = (_handler(c) for c in (400, 403, 404, 500))

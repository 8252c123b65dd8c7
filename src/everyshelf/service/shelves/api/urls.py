"""Addresses below /api/v1/shelves."""

from django.urls import path

from everyshelf.service.shelves.api import artifact_views as artifacts
from everyshelf.service.shelves.api import commit_views as commits
from everyshelf.service.shelves.api import compare_views as compare
from everyshelf.service.shelves.api import merge_views as merges
from everyshelf.service.shelves.api import parcel_views as parcels
from everyshelf.service.shelves.api import shelf_views as shelves

_S = "/<str:shelf>"
urlpatterns = [
    path("", shelves.ShelvesView.as_view()),
    path(_S, shelves.OneShelfView.as_view()),
    path(f"{_S}/branches", shelves.BranchesView.as_view()),
    path(f"{_S}/lines", shelves.LinesView.as_view()),
    path(f"{_S}/merge", merges.MergeView.as_view()),
    path(f"{_S}/merges", merges.MergesView.as_view()),
    path(f"{_S}/merges/<str:uid>", merges.OneMergeView.as_view()),
    path(f"{_S}/merges/<str:uid>/so-far", merges.SoFarView.as_view()),
    path(f"{_S}/merges/<str:uid>/drawing", merges.MergeDrawingView.as_view()),
    path(f"{_S}/merges/<str:uid>/decisions", merges.DecisionsView.as_view()),
    path(f"{_S}/merges/<str:uid>/finish", merges.FinishView.as_view()),
    path(f"{_S}/parcel", parcels.ParcelView.as_view()),
    path(f"{_S}/copies", artifacts.CopiesView.as_view()),
    path(f"{_S}/restore", commits.RestoreView.as_view()),
    path(f"{_S}/branches/<path:name>", shelves.BranchView.as_view()),
    path(f"{_S}/tags", shelves.TagsView.as_view()),
    path(f"{_S}/tags/<path:name>", shelves.TagView.as_view()),
    path(f"{_S}/verify", shelves.VerifyView.as_view()),
    path(f"{_S}/artifacts", artifacts.ArtifactsView.as_view()),
    path(f"{_S}/summary", artifacts.SummaryView.as_view()),
    path(f"{_S}/zip", artifacts.ZipView.as_view()),
    path(f"{_S}/artifact", artifacts.ArtifactView.as_view()),
    path(f"{_S}/artifact/history", artifacts.ArtifactHistoryView.as_view()),
    path(f"{_S}/artifact/outline", artifacts.ArtifactOutlineView.as_view()),
    path(f"{_S}/artifact/drawing", artifacts.ArtifactDrawingView.as_view()),
    path(f"{_S}/artifact/unfolded", artifacts.ArtifactPartsView.as_view()),
    path(f"{_S}/artifact/unfolded/file", artifacts.ArtifactPartsFileView.as_view()),
    path(f"{_S}/artifact/rows", artifacts.ArtifactRowsView.as_view()),
    path(f"{_S}/artifact/cells", artifacts.ArtifactCellsView.as_view()),
    path(f"{_S}/artifact/text", artifacts.ArtifactTextView.as_view()),
    path(f"{_S}/artifact/file", artifacts.ArtifactFileView.as_view()),
    path(f"{_S}/contents", artifacts.ContentsView.as_view()),
    path(f"{_S}/contents/many", artifacts.ManyContentsView.as_view()),
    path(f"{_S}/contents/missing", artifacts.MissingContentsView.as_view()),
    path(f"{_S}/contents/edit", artifacts.EditView.as_view()),
    path(f"{_S}/contents/fold", artifacts.FoldView.as_view()),
    path(f"{_S}/contents/<str:identity>", artifacts.ContentView.as_view()),
    path(f"{_S}/commits", commits.CommitsView.as_view()),
    path(f"{_S}/commits/<str:uid>", commits.CommitView.as_view()),
    path(f"{_S}/commits/<str:uid>/undo", commits.UndoView.as_view()),
    path(f"{_S}/compare", compare.CompareView.as_view()),
    path(f"{_S}/compare/parted", compare.PartedView.as_view()),
    path(f"{_S}/compare/artifact", compare.CompareArtifactView.as_view()),
    path(f"{_S}/compare/drawing", compare.CompareDrawingView.as_view()),
    path(f"{_S}/compare/rows", compare.CompareRowsView.as_view()),
    path(f"{_S}/compare/report", compare.CompareReportView.as_view()),
]

"""Addresses: the API, uploads, frames, and the single page for everything else."""

from django.urls import path, re_path

from deliveries.views import delivery_file
from frames.views import clip_frame, clip_range, frame, frame_range, generated_preview, media_file, model_preview, thumb
from jobs.stream import events
from library.uploads import upload, uploads
from packs.api import pack_file
from plonket_server.api import api
from plonket_server.page import asset_file, page

urlpatterns = [
    path("api/events", events),
    path("api/uploads", uploads),
    path("api/uploads/<uuid:upload_id>", upload, name="upload"),
    path("api/frames/<uuid:shot_id>/<str:digest>/<str:view>/<int:percent>/range", frame_range),
    path("api/frames/<uuid:shot_id>/<str:digest>/<str:view>/<int:percent>/<int:number>.jpg", frame),
    path("api/thumbs/<uuid:shot_id>/<str:digest>/<int:number>.jpg", thumb),
    path("api/clips/<str:digest>/<int:percent>/range", clip_range),
    path("api/clips/<str:digest>/<int:percent>/<int:number>.jpg", clip_frame),
    path("api/generated/<slug:kind>.jpg", generated_preview),
    path("api/models/<slug:digest>.jpg", model_preview),
    path("api/media/<str:digest>/<str:what>", media_file),
    path("api/deliveries/<uuid:delivery_id>/file", delivery_file),
    path("api/packs/<uuid:job_id>/file", pack_file),
    path("api/", api.urls),
    re_path(r"^assets/(?P<name>[A-Za-z0-9._-]+)$", asset_file),
    re_path(r"^(?!api/).*$", page),
]

"""Addresses that are told of releases, and what became of it."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema, extend_schema_field
from rest_framework import serializers, status
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.server.accounts.acts import Act, Role
from tansy.server.portfolios.models import Portfolio
from tansy.server.releases import webhooks
from tansy.server.releases.models import Delivery, Webhook

_LAST = 5


class DeliverySerializer(serializers.ModelSerializer):
    class Meta:
        model = Delivery
        fields = ["id", "event", "made_at", "attempts", "next_at", "delivered_at", "answer"]
        read_only_fields = fields


class WebhookSerializer(serializers.ModelSerializer):
    made_by = serializers.CharField(source="made_by.username", read_only=True)
    deliveries = serializers.SerializerMethodField(help_text="The last ones, newest first.")

    class Meta:
        model = Webhook
        fields = ["id", "url", "made_by", "made_at", "deliveries"]

    @extend_schema_field(DeliverySerializer(many=True))
    def get_deliveries(self, webhook: Webhook) -> list[dict[str, Any]]:
        return [dict(DeliverySerializer(one).data) for one in webhook.deliveries.order_by("-pk")[:_LAST]]


class NewWebhookSerializer(WebhookSerializer):
    class Meta(WebhookSerializer.Meta):
        fields = [*WebhookSerializer.Meta.fields, "secret"]


class WebhooksView(APIView):
    seen_by = Role.KEEPER  # addresses of other machines
    acts = {"POST": Act("added webhook {made}", Role.KEEPER)}

    @extend_schema(responses=WebhookSerializer(many=True))
    def get(self, request: Request, pk: int) -> Response:
        """Addresses that are told of releases of a portfolio."""
        own = get_object_or_404(Portfolio, pk=pk).webhooks.select_related("made_by").order_by("pk")
        return Response(WebhookSerializer(own, many=True).data)

    @extend_schema(request=WebhookSerializer, responses={201: NewWebhookSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Tell one more; the secret that deliveries are signed with is shown once."""
        fields = WebhookSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        made = webhooks.make(get_object_or_404(Portfolio, pk=pk), fields.validated_data["url"], request.user)
        return Response(NewWebhookSerializer(made).data, status=status.HTTP_201_CREATED)


class WebhookView(APIView):
    acts = {"DELETE": Act("removed webhook {id}", Role.KEEPER)}

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Tell it no more."""
        get_object_or_404(Webhook, pk=pk).delete()
        return Response(status=status.HTTP_204_NO_CONTENT)


class TryWebhookView(APIView):
    acts = {"POST": Act("tried webhook {id}", Role.KEEPER)}

    @extend_schema(request=None, responses={201: DeliverySerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Send it something that says nothing, to see whether it is heard."""
        made = webhooks.try_out(get_object_or_404(Webhook.objects.select_related("portfolio"), pk=pk))
        return Response(DeliverySerializer(made).data, status=status.HTTP_201_CREATED)

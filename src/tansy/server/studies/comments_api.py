"""What people say of a node, or of the whole, before it goes out."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers, status
from rest_framework.exceptions import PermissionDenied
from rest_framework.generics import get_object_or_404
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from tansy.server.accounts.acts import Act
from tansy.server.studies.models import Comment, Node, Study, node_at

_MOST = 200


class CommentSerializer(serializers.ModelSerializer):
    made_by = serializers.CharField(source="made_by.username")
    node = serializers.SerializerMethodField()

    class Meta:
        model = Comment
        fields = ["id", "node", "node_name", "text", "made_by", "made_at"]
        read_only_fields = fields

    def get_node(self, comment: Comment) -> str | None:
        """Its address in the study; null where it is of the whole, or the study has no such node."""
        refs: dict[str, str] = self.context["refs"]
        return refs.get(comment.node)


class NewCommentSerializer(serializers.Serializer):
    node = serializers.CharField(required=False, allow_blank=True, help_text="Of this node; of the whole without.")
    text = serializers.CharField(max_length=2000)


NODE = OpenApiParameter("node", str, description="Of this node alone; all of them without.")


def _told(study: Study, comments: list[Comment]) -> list[dict[str, object]]:
    keys = {one.node for one in comments if one.node}
    refs = dict(Node.objects.filter(study=study, key__in=keys).values_list("key", "ref"))
    return list(CommentSerializer(comments, many=True, context={"refs": refs}).data)


class CommentsView(APIView):
    acts = {"POST": Act("commented on study {id}")}

    @extend_schema(parameters=[NODE], responses=CommentSerializer(many=True))
    def get(self, request: Request, pk: int) -> Response:
        """Comments of the portfolio of a study, the newest first."""
        study = get_object_or_404(Study.objects.select_related("portfolio"), pk=pk)
        found = Comment.objects.filter(portfolio=study.portfolio).select_related("made_by").order_by("-pk")
        ref = request.query_params.get("node", "")
        if ref:
            found = found.filter(node=node_at(study.pk, ref).key)
        return Response(_told(study, list(found[:_MOST])))

    @extend_schema(request=NewCommentSerializer, responses={201: CommentSerializer})
    def post(self, request: Request, pk: int) -> Response:
        """Say something of a node, or of the whole."""
        study = get_object_or_404(Study.objects.select_related("portfolio"), pk=pk)
        fields = NewCommentSerializer(data=request.data)
        fields.is_valid(raise_exception=True)
        ref = fields.validated_data.get("node", "")
        node = node_at(study.pk, ref) if ref else None
        user: Any = request.user
        made = Comment.objects.create(
            portfolio=study.portfolio,
            study=study,
            node=node.key if node else "",
            node_name=node.name if node else "",
            text=fields.validated_data["text"],
            made_by=user,
        )
        return Response(_told(study, [made])[0], status=status.HTTP_201_CREATED)


class CommentView(APIView):
    acts = {"DELETE": Act("took back comment {id}")}

    @extend_schema(responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """Take back what you said yourself."""
        comment = get_object_or_404(Comment, pk=pk)
        if comment.made_by_id != request.user.pk:
            raise PermissionDenied("What others said is theirs to take back.")
        comment.delete()
        return Response(status=status.HTTP_204_NO_CONTENT)

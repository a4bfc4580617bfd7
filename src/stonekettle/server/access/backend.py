"""Who a session belongs to, read together with what they may."""

from __future__ import annotations

from django.contrib.auth.backends import ModelBackend
from django.contrib.auth.models import User


class PeopleBackend(ModelBackend):
    def get_user(self, user_id: int) -> User | None:
        user = User.objects.select_related("person").filter(pk=user_id).first()
        return user if user is not None and self.user_can_authenticate(user) else None

"""Make the first account from the environment, and refuse the demo's password."""

from typing import Any

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError

from watchtide.server import config
from watchtide.server.people import services
from watchtide.server.people.access import ADMIN, give_role


class Command(BaseCommand):
    help = "Make an admin of WATCHTIDE_ADMIN_NAME and WATCHTIDE_ADMIN_PASSWORD where there is no account yet."

    def handle(self, *args: Any, **options: Any) -> None:
        stated = config.load()
        name, password = stated.admin_name, stated.admin_password.get_secret_value()
        if not User.objects.exists():
            if not name or not password:
                raise CommandError(
                    "there is no account yet; set WATCHTIDE_ADMIN_NAME and WATCHTIDE_ADMIN_PASSWORD for the first one"
                )
            try:
                validate_password(password)
            except ValidationError as error:
                raise CommandError(
                    f"the first account could not be made: {' '.join(error.messages)}"
                ) from error
            give_role(User.objects.create_user(name, password=password), ADMIN)
        if services.has_demo_password():
            raise CommandError(services.DEMO_PASSWORD)

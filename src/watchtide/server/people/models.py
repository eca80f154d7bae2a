"""What is kept about a person beyond the account."""

from django.db import models


class Person(models.Model):
    """When somebody last looked at the tide table, so that it can say what is new."""

    user = models.OneToOneField("auth.User", on_delete=models.CASCADE, related_name="person")
    last_looked = models.DateTimeField(null=True)

    class Meta:
        db_table = "person"

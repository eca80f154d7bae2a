"""The web application: records in MariaDB, jobs, and the REST interface over the engine."""

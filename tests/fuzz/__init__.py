"""A long run that asks every call of both OpenAPI documents whatever they allow, and what they do not."""

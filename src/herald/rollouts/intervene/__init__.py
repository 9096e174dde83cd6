"""What a person does to a rollout that was launched."""

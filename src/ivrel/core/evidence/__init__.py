"""Evidence: what messages prove and contradict of what the policy asks."""

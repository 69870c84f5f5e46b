"""The model with its history: steps, ledger, recipe, questions, project files."""

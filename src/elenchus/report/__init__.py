"""What commands report, as pieces of text: findings, explanations, pages, changes."""

"""What every page of the site shares. Plain Flask and SQLAlchemy, yours to change."""

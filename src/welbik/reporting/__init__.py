"""What is stored beside what was declared: measured by the database, told and drawn here."""

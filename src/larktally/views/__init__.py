"""Pictures and tables: what people look at."""

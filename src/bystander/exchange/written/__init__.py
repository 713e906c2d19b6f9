"""How documents and tables are written, whatever they hold."""

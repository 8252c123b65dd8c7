"""SQL over versions: what a statement names (``statement``), tables with their types (``typed``), running it
(``running``)."""

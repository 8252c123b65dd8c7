"""The computation of Every Shelf: no web framework, no HTTP, no command line, no printing.

Inside, imports only point downward: content < outline < formats < kinds < compare < merge < history < promotion.
"""

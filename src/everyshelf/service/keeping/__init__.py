"""What the store holds, and tidying it: versions kept as what they change, segments rewritten where much is not needed.

``shrinking`` goes over new versions, ``tidying`` is the whole run, which ``jobs`` begins when it is time; ``actions``
and ``api`` are for administrators.
"""

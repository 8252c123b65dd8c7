"""SQL functions for values written as texts.

``es_number`` gives one text for all plain spellings of a number, NULL for what is none: signs, trailing noughts, a point
without digits. Digits after leading noughts are a code, not a number: 007 is not 7. ``es_noise`` tells two numbers that
differ by less than their last bits can tell, ``es_rounded`` two texts of which one is the other with fewer digits,
``es_tied`` the same where it is exactly between two values of fewer digits, ``es_single`` two numbers of which one is the other in single precision, ``es_when`` brings dates with times to one form.
"""

from __future__ import annotations

FUNCTIONS = (
    # No sign before nought, no nought at either end.
    r"""CREATE MACRO es_digits(x) AS
        CASE WHEN regexp_full_match(x, '[-+]?0*\.?0*') THEN '0'
        ELSE (CASE WHEN x[1] = '-' THEN '-' ELSE '' END)
          || coalesce(nullif(ltrim(split_part(ltrim(x, '+-'), '.', 1), '0'), ''), '0')
          || (CASE WHEN rtrim(split_part(x, '.', 2), '0') = '' THEN '' ELSE '.' || rtrim(split_part(x, '.', 2), '0') END)
        END""",
    r"""CREATE MACRO es_number(x) AS
        CASE WHEN regexp_full_match(x, '[-+]?((0|[1-9]\d*)(\.\d*)?|\.\d+)') THEN es_digits(x)
        WHEN regexp_full_match(x, '[-+]?(\d+\.?\d*|\.\d+)[eE][-+]?\d{1,3}') THEN
          (CASE WHEN abs(TRY_CAST(x AS DOUBLE)) BETWEEN 1e-6 AND 1e15
           THEN es_digits(CAST(TRY_CAST(x AS DOUBLE) AS VARCHAR)) ELSE CAST(TRY_CAST(x AS DOUBLE) AS VARCHAR) END)
        END""",
    # Numbers with a fraction that differ by less than their last bits can tell.
    r"""CREATE MACRO es_noise(x, y) AS
        abs(x - y) <= 1e-12 * greatest(abs(x), abs(y)) OR (isnan(x) AND isnan(y))""",
    r"""CREATE MACRO es_fraction(x) AS length(split_part(split_part(lower(x), 'e', 1), '.', 2))""",
    r"""CREATE MACRO es_rounded(x, y) AS
        es_fraction(x) <> es_fraction(y)
        AND regexp_full_match(x, '[-+]?\d+(\.\d+)?') AND regexp_full_match(y, '[-+]?\d+(\.\d+)?')
        AND abs(TRY_CAST(x AS DOUBLE) - TRY_CAST(y AS DOUBLE))
            < 0.4999999 * pow(10, -least(es_fraction(x), es_fraction(y)))""",
    # Exactly half a unit of the last digit kept: rounding may have gone either way.
    r"""CREATE MACRO es_tied(x, y) AS
        es_fraction(x) <> es_fraction(y)
        AND regexp_full_match(x, '[-+]?\d+(\.\d+)?') AND regexp_full_match(y, '[-+]?\d+(\.\d+)?')
        AND abs(TRY_CAST(x AS DOUBLE) - TRY_CAST(y AS DOUBLE))
            <= 0.5000001 * pow(10, -least(es_fraction(x), es_fraction(y)))""",
    # One is the other in single precision (IEEE 754 binary32), however that is written.
    r"""CREATE MACRO es_single(x, y) AS
        x <> y AND (CAST(TRY_CAST(x AS FLOAT) AS DOUBLE) = y OR CAST(TRY_CAST(y AS FLOAT) AS DOUBLE) = x)""",
    r"""CREATE MACRO es_when(x) AS
        regexp_replace(regexp_replace(replace(x, 'T', ' '), '(Z|[+]00:?00)$', ''), '( 00:00)?(:00)?([.]0+)?$', '')""",
)

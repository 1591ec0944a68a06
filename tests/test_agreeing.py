"""Sentences agree with their numbers."""

import pytest

from upsort.cli.rendering.view import singular_after_one


@pytest.mark.parametrize(
    ("written", "said"),
    [
        ("Scored 1 documents: x.csv.", "Scored 1 document: x.csv."),
        ("1 documents have no label; training sets them aside.", "1 document has no label; training sets them aside."),
        ("1 documents copy another one; they are kept together.", "1 document copies another one; it is kept together."),
        ("1 training documents answered alike.", "1 training document answered alike."),
        ("1 'pests' documents were taken for 'soil'.", "1 'pests' document was taken for 'soil'."),
        ("5 of 1 documents", "5 of 1 document"),
        ("1 of 60 documents", "1 of 60 documents"),
        ("21 documents have", "21 documents have"),
        ("2,001 documents are", "2,001 documents are"),
        ("0.1 points", "0.1 points"),
        ("1.1 times as often", "1.1 times as often"),
        ("31 terms and 1 labels.", "31 terms and 1 label."),
        ("1 copies stand under another label", "1 copy stands under another label"),
        ("1 duplicates have a different label", "1 duplicate has a different label"),
        ("2 labels, 1 years of 'received'", "2 labels, 1 year of 'received'"),
        ("All 1 mistakes: m.csv.", "All 1 mistake: m.csv."),
        ("w1 documents", "w1 documents"),
    ],
)
def test_nouns_and_verbs_after_one(written: str, said: str) -> None:
    assert singular_after_one(written) == said

"""Numbers and texts that are stated: each is compared with that of which it speaks."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from tenuto.basics.text import joined, parted


@given(st.lists(st.text("ab; ", min_size=1).filter(lambda text: text.strip())))
def test_texts_in_one_cell_of_a_log_are_read_back_whatever_is_in_them(texts: list[str]) -> None:
    assert parted(joined(texts)) == tuple(texts)
    assert parted("a; b") == ("a", "b"), "as a log of 1.0.0 has it"

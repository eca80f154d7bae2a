"""Labels found by the stream that they cover are those that a look through all of them finds."""

from hypothesis import given
from hypothesis import strategies as st

from watchtide.core.scoring.rows import Coverage, Label
from watchtide.core.series import keys
from watchtide.engine.many import run
from watchtide.engine.scan import stages
from watchtide.plan import Plan

pairs = st.lists(
    st.tuples(st.sampled_from("abc"), st.sampled_from("xy")), max_size=3, unique_by=lambda p: p[0]
)
scopes = pairs.map(keys.encode)


@given(st.lists(scopes, max_size=12), scopes)
def test_found_by_stream_or_looked_through(covered, key):
    labels = [Label(i, i + 1, scope) for i, scope in enumerate(covered)]
    assert list(Coverage(labels).of(key)) == [x for x in labels if keys.covers(x.series, key)]


def test_a_name_that_is_no_key_is_covered_by_itself_and_by_what_covers_all():
    labels = [Label(0, 1, "taps"), Label(1, 2, ""), Label(2, 3, "place=pier"), Label(3, 4, "other")]
    assert [x.start for x in Coverage(labels).of("taps")] == [0, 1]
    assert [x.start for x in Coverage(labels).of("place=pier")] == [1, 2]


def test_a_task_carries_the_labels_of_its_stream_alone(monkeypatch):
    given = []
    monkeypatch.setattr(run, "scan_one", lambda task: given.append(task.labels))
    labels = [Label(i, i + 1, f"n={i}") for i in range(50)]
    streams = [stages.Input(f"n={i}", [], []) for i in range(2)]
    list(run.scan_many(streams, Plan(), labels))
    assert given == [(labels[0],), (labels[1],)]

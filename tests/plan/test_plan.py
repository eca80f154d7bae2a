"""Plans as text: defaults, mistakes by line, limits."""

import pytest

from watchtide.plan import Plan, PlanError, dump, durations, load


def test_a_plan_survives_being_written_out_and_read():
    plan = load("baseline: {kind: slot, seasons: [24h, 7d]}\nflag:\n  level: {sigmas: 4.5}\n  side: below\n")
    assert load(dump(plan)) == plan and plan.flag.level == {"sigmas": 4.5}
    assert load("") == Plan()


@pytest.mark.parametrize(
    ("text", "line", "place", "words"),
    [
        ("flag:\n  levle: {sigmas: 4}\n", 2, "flag.levle", "did you mean level"),
        ("flag:\n  side: both\n  level: {sigmas: -1}\n", 3, "flag", "must be above 0"),
        ("flag: {level: {sigma: 4}}\n", 1, "flag", "takes one of sigmas"),
        ("group:\n  need: 3\n  of: 2\n", 1, "group", "need must not exceed of, got 3 of 2"),
        ("baseline:\n  seasons: [24h, soon]\n", 2, "baseline.seasons", "no duration"),
        ("baseline:\n  kind: magic\n", 1, "baseline", "must be one of auto, loess"),
        (
            "baseline:\n  kind: slot\n  options: {centre: middle}\n",
            1,
            "baseline",
            "one of median, mean, trimmed",
        ),
        (
            "baseline:\n  kind: harmonic\n  options: {harmonics: 0}\n",
            1,
            "baseline",
            "a whole number from 1 on",
        ),
        ("baseline:\n  options: {centre: mean}\n", 1, "baseline", "state the kind first"),
        ("prepare: {as: count, denominator: asked}\n", 1, "plan", "makes a ratio"),
        ("flag: {fleet: {rate: 2}}\n", 1, "flag.fleet.rate", "less than 1"),
        ("baseline: [\n", 2, "plan", "check indent"),
        ("- a\n", 1, "plan", "set of keys"),
        ("a: &x 1\nb: *x\n", 2, "plan", "aliases are not taken"),
        ("watchtide: 2\n", 1, "watchtide", "should be 1"),
    ],
)
def test_a_mistake_is_told_by_line_and_key(text, line, place, words):
    with pytest.raises(PlanError) as caught:
        load(text)
    got_line, got_place, message = caught.value.problems[0]
    assert got_place.startswith(place) and words in message
    assert abs((got_line or 0) - line) <= 1


def test_a_plan_is_a_page_not_a_book():
    with pytest.raises(PlanError, match="longer than 256 kB"):
        load("# " + "x" * 300_000)
    with pytest.raises(PlanError, match="cannot be read|check indent|could not"):
        load("!!python/object/apply:os.system [ls]")


@pytest.mark.parametrize(
    ("text", "seconds"), [("90s", 90), ("15m", 900), ("24h", 86400), ("12.42h", 44712), ("2w", 1209600)]
)
def test_durations(text, seconds):
    assert durations.parse_ns(text) == seconds * 10**9
    assert durations.parse_ns(durations.format_ns(seconds * 10**9)) == seconds * 10**9


def test_a_bare_number_counts_samples():
    assert durations.parse_ns(96, step_ns=900 * 10**9) == durations.parse_ns("24h")
    with pytest.raises(ValueError, match="needs a unit"):
        durations.parse_ns("96")


@pytest.mark.parametrize("text", ["[" * 50_000, "? " * 20_000, "&\x1d\xaa", "a: \x88", "{a: " * 9_000])
def test_text_that_no_plan_is_gets_a_message_and_no_traceback(text):
    with pytest.raises(PlanError) as error:
        load(text)
    assert str(error.value)

//! Finds which addresses of one space a station has, and how much it gives at once: by reads alone, within a number of
//! requests. A state machine: [`Survey::to_read`] says what to read, [`Survey::told`] takes what came of it.

use std::ops::Range;

/// What came of a read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReadOutcome {
    /// Values.
    Good,
    /// A refusal: some of it does not exist, or it is too much at once.
    Refused,
    /// The station does not serve such a table at all.
    NoTable,
    /// Nothing came.
    Silent,
}

/// What is looked for now.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Seeking {
    /// Something that exists, at the anchor of that index.
    Anchor(usize),
    /// The end of the range, by reads that begin at its present end.
    Up(Try),
    /// Whether the range goes on behind what one request brings.
    Beyond(u32),
    /// The beginning of the range, by reads that end at its present beginning.
    Down(Try),
    /// Whether it began even before what one request brings.
    Before(u32),
    Nothing,
}

/// Between a count that is known to be good and one that is known to be refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Try {
    good: u32,
    bad: Option<u32>,
}

const FRESH: Try = Try { good: 0, bad: None };

/// The survey of one space.
#[derive(Debug, Clone)]
pub struct Survey {
    anchors: &'static [u32],
    len: u32,
    /// Most grains that a request is tried with.
    size: u32,
    budget: u32,
    seeking: Seeking,
    asked: Option<(u32, u32)>,
    range: Range<u32>,
    /// The last read was repeated because nothing came.
    again: bool,
    /// What exists, in ascending order.
    pub ranges: Vec<Range<u32>>,
    /// The most grains that came in one answer.
    pub largest: u32,
    /// More than that was refused where it exists.
    pub limited: bool,
    /// The station serves no such table.
    pub no_table: bool,
    /// The requests were spent before all was found.
    pub spent: bool,
    /// The station fell silent.
    pub lost: bool,
}

impl Survey {
    /// Of a space with `len` addresses of which the protocol allows `most` in one read; `anchors` are where people begin
    /// tables, ascending.
    #[must_use]
    pub fn new(anchors: &'static [u32], len: u32, most: u32, budget: u32) -> Self {
        Self {
            anchors,
            len,
            size: most.max(1),
            budget,
            seeking: Seeking::Anchor(0),
            asked: None,
            range: 0..0,
            again: false,
            ranges: vec![],
            largest: 0,
            limited: false,
            no_table: false,
            spent: false,
            lost: false,
        }
    }

    /// Requests that are left.
    #[must_use]
    pub fn left(&self) -> u32 {
        self.budget
    }

    /// The read that tells most now: first grain and count. `None` once all is known that can be.
    pub fn to_read(&mut self) -> Option<(u32, u32)> {
        if self.asked.is_some() {
            return self.asked;
        }
        let wanted = loop {
            match self.seeking {
                Seeking::Nothing => return None,
                Seeking::Anchor(at) => match self.anchors.get(at) {
                    None => self.seeking = Seeking::Nothing,
                    Some(first)
                        if *first >= self.len || self.ranges.iter().any(|known| known.contains(first)) =>
                    {
                        self.seeking = Seeking::Anchor(at + 1);
                    }
                    Some(first) => break (*first, 1),
                },
                Seeking::Up(known) => match self.count(known, self.len - self.range.end) {
                    Some(count) => break (self.range.end, count),
                    None => self.up_is_known(known),
                },
                Seeking::Beyond(_) => break (self.range.end, 1),
                Seeking::Before(_) => break (self.range.start - 1, 1),
                Seeking::Down(known) => match self.count(known, self.range.start - self.floor()) {
                    Some(count) => break (self.range.start - count, count),
                    None => self.down_is_known(known),
                },
            }
        };
        if self.budget == 0 {
            self.spent = true;
            if !matches!(self.seeking, Seeking::Anchor(_) | Seeking::Nothing) {
                self.end_range();
            }
            self.seeking = Seeking::Nothing;
            return None;
        }
        self.budget -= 1;
        self.asked = Some(wanted);
        self.asked
    }

    /// Where the range before this one ends.
    fn floor(&self) -> u32 {
        let before = self.ranges.iter().filter(|known| known.end <= self.range.start);
        before.map(|known| known.end).max().unwrap_or(0)
    }

    /// The next count to try, with so many addresses left; `None` once the border is known.
    fn count(&self, known: Try, left: u32) -> Option<u32> {
        match known.bad {
            None => Some(self.size.min(left)).filter(|count| *count > 0),
            Some(bad) => (bad - known.good > 1).then(|| known.good + (bad - known.good) / 2),
        }
    }

    fn up_is_known(&mut self, known: Try) {
        self.range.end += known.good;
        // A refusal of more may have been for its length.
        let maybe_longer = known.good > 0 && self.range.end < self.len;
        self.seeking = if maybe_longer { Seeking::Beyond(known.good) } else { Seeking::Down(FRESH) };
    }

    fn down_is_known(&mut self, known: Try) {
        self.range.start -= known.good;
        if known.good > 0 && self.range.start > self.floor() {
            self.seeking = Seeking::Before(known.good);
        } else {
            self.end_range();
        }
    }

    fn end_range(&mut self) {
        let mut own = self.range.clone();
        // A station that gives now what it refused before may lead into what is known: that is one range.
        self.ranges.retain(|known| {
            let apart = known.end < own.start || own.end < known.start;
            if !apart {
                own = own.start.min(known.start)..own.end.max(known.end);
            }
            apart
        });
        let at = self.ranges.partition_point(|known| known.start < own.start);
        self.ranges.insert(at, own);
        self.seeking = Seeking::Anchor(0);
    }

    /// Takes what came of the last read.
    pub fn told(&mut self, told: ReadOutcome) {
        let Some((first, count)) = self.asked.take() else { return };
        match told {
            ReadOutcome::Silent if count == 1 || matches!(self.seeking, Seeking::Anchor(_)) => {
                if self.again {
                    self.lost = true;
                    if !matches!(self.seeking, Seeking::Anchor(_) | Seeking::Nothing) {
                        self.end_range();
                    }
                    self.seeking = Seeking::Nothing;
                }
                self.again = true;
                return;
            }
            ReadOutcome::NoTable => {
                self.no_table = self.ranges.is_empty();
                self.seeking = Seeking::Nothing;
                return;
            }
            // Some do not answer at all to more than they take.
            ReadOutcome::Good | ReadOutcome::Refused | ReadOutcome::Silent => self.again = false,
        }
        let good = told == ReadOutcome::Good;
        if good {
            self.largest = self.largest.max(count);
        }
        self.seeking = match (self.seeking, good) {
            (Seeking::Anchor(_), true) => {
                self.range = first..first + 1;
                Seeking::Up(FRESH)
            }
            (Seeking::Anchor(at), false) => Seeking::Anchor(at + 1),
            (Seeking::Up(Try { bad: None, .. }), true) => {
                self.range.end += count;
                Seeking::Up(FRESH)
            }
            (Seeking::Up(known), true) => Seeking::Up(Try { good: count, ..known }),
            (Seeking::Up(known), false) => Seeking::Up(Try { bad: Some(count), ..known }),
            (Seeking::Beyond(size), true) => {
                self.range.end += 1;
                (self.size, self.limited) = (size, true);
                Seeking::Up(FRESH)
            }
            (Seeking::Beyond(_), false) => Seeking::Down(FRESH),
            (Seeking::Down(Try { bad: None, .. }), true) => {
                self.range.start -= count;
                Seeking::Down(FRESH)
            }
            (Seeking::Down(known), true) => Seeking::Down(Try { good: count, ..known }),
            (Seeking::Down(known), false) => Seeking::Down(Try { bad: Some(count), ..known }),
            (Seeking::Before(size), true) => {
                self.range.start -= 1;
                (self.size, self.limited) = (size, true);
                Seeking::Down(FRESH)
            }
            (Seeking::Before(_), false) => {
                self.end_range();
                Seeking::Anchor(0)
            }
            (Seeking::Nothing, _) => Seeking::Nothing,
        };
    }
}

#[cfg(test)]
#[allow(clippy::single_range_in_vec_init, reason = "one range of addresses is one range")]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ANCHORS: &[u32] = &[0, 1, 100, 256, 1000, 4096];

    /// A station with these ranges, that gives so much at once.
    fn run(survey: &mut Survey, has: &[Range<u32>], takes: u32) -> u32 {
        let mut requests = 0;
        while let Some((first, count)) = survey.to_read() {
            requests += 1;
            let there = has.iter().any(|range| range.start <= first && first + count <= range.end);
            survey.told(if there && count <= takes { ReadOutcome::Good } else { ReadOutcome::Refused });
        }
        requests
    }

    fn found(has: &[Range<u32>], takes: u32, budget: u32) -> Survey {
        let mut survey = Survey::new(ANCHORS, 65_536, 125, budget);
        let requests = run(&mut survey, has, takes);
        assert!(requests <= budget);
        survey
    }

    #[test]
    fn ranges_are_found_to_the_address_and_the_largest_request_with_them() {
        let survey = found(&[0..40, 90..300, 1000..1001], 125, 200);
        assert_eq!(survey.ranges, [0..40, 90..300, 1000..1001]);
        assert_eq!((survey.largest, survey.limited, survey.spent), (125, false, false));
        let small = found(&[0..400], 32, 200);
        assert_eq!((small.ranges.as_slice(), small.largest, small.limited), (&[0..400][..], 32, true));
        assert_eq!(found(&[0..65_536], 125, 2000).ranges, [0..65_536]);
        assert!(found(&[], 125, 200).ranges.is_empty());
    }

    #[test]
    fn what_was_found_before_the_requests_were_spent_is_kept() {
        let survey = found(&[0..5000], 125, 10);
        assert!(survey.spent && survey.ranges.len() == 1);
        assert!(survey.ranges[0].start == 0 && survey.ranges[0].end > 500, "{:?}", survey.ranges);
    }

    #[test]
    fn a_table_that_is_not_served_costs_one_request_and_silence_two() {
        let mut none = Survey::new(ANCHORS, 65_536, 125, 100);
        none.to_read();
        none.told(ReadOutcome::NoTable);
        assert!(none.to_read().is_none() && none.no_table);
        let mut dead = Survey::new(ANCHORS, 65_536, 125, 100);
        for _ in 0..2 {
            assert_eq!(dead.to_read(), Some((0, 1)));
            dead.told(ReadOutcome::Silent);
        }
        assert!(dead.to_read().is_none() && dead.lost);
    }

    #[test]
    fn a_device_that_is_silent_to_long_requests_only_is_no_lost_one() {
        let mut survey = Survey::new(ANCHORS, 65_536, 125, 200);
        while let Some((first, count)) = survey.to_read() {
            survey.told(match (first + count <= 60, count <= 20) {
                (_, false) => ReadOutcome::Silent,
                (true, _) => ReadOutcome::Good,
                _ => ReadOutcome::Refused,
            });
        }
        assert_eq!(
            (survey.ranges.as_slice(), survey.largest, survey.limited, survey.lost),
            (&[0..60][..], 20, true, false)
        );
    }

    #[test]
    fn a_station_that_contradicts_itself_gives_no_two_ranges_of_one_address() {
        let mut survey = Survey::new(ANCHORS, 65_536, 125, 150);
        let mut good = [false, true, true, false, false, true, true, true].into_iter().cycle();
        while survey.to_read().is_some() {
            survey.told(if good.next() == Some(true) { ReadOutcome::Good } else { ReadOutcome::Refused });
        }
        assert!(survey.ranges.windows(2).all(|pair| pair[0].end < pair[1].start), "{:?}", survey.ranges);
    }

    proptest! {
        #[test]
        fn whatever_a_station_has_around_an_anchor_is_found_and_nothing_else(
            starts in prop::collection::btree_set(0u32..5000, 1..5), lengths in prop::collection::vec(1u32..300, 5), takes in 1u32..130,
        ) {
            let mut has: Vec<Range<u32>> = vec![];
            for (start, length) in starts.into_iter().zip(lengths) {
                if has.last().is_none_or(|last| last.end < start) {
                    has.push(start..start + length);
                }
            }
            let survey = found(&has, takes, 100_000);
            let wanted: Vec<Range<u32>> =
                has.iter().filter(|range| ANCHORS.iter().any(|anchor| range.contains(anchor))).cloned().collect();
            prop_assert_eq!(&survey.ranges, &wanted);
            prop_assert!(survey.largest <= takes);
        }

        #[test]
        fn no_sequence_of_answers_makes_it_go_on_for_ever(answers in prop::collection::vec(0u8..4, 0..400)) {
            let mut survey = Survey::new(ANCHORS, 65_536, 125, 150);
            let mut answers = answers.into_iter().cycle();
            let mut requests = 0;
            while let Some((first, count)) = survey.to_read() {
                prop_assert!(count >= 1 && first + count <= 65_536);
                requests += 1;
                prop_assert!(requests <= 150);
                survey.told(match answers.next() {
                    Some(0) | None => ReadOutcome::Good,
                    Some(1) => ReadOutcome::Refused,
                    Some(2) => ReadOutcome::NoTable,
                    _ => ReadOutcome::Silent,
                });
            }
            for pair in survey.ranges.windows(2) {
                prop_assert!(pair[0].end <= pair[1].start);
            }
        }
    }
}

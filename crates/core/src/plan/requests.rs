//! The least-bus-time set of requests that reads given items of one space.

use crate::protocol::{Cost, Dialect, Extent, Setup, Space, SpaceId, Verb};

/// Items of one space that are wanted: first grain and count, each to be read in one request.
pub(super) type Item = (u32, u32);

/// Requests in ascending order that cover all items, each item whole in one of them, at the least total weight.
/// `read-gap` unused grains may be read between two items. `None` where an item alone is too long for any request.
///
/// After items that lie wholly inside another are dropped, both ends ascend, and some best set of requests covers
/// consecutive items: a best split of the first `n` items is found from those of fewer.
pub(super) fn cover(
    dialect: &dyn Dialect,
    space: &Space,
    id: SpaceId,
    items: &[Item],
    gap: u32,
    setup: &Setup,
    weigh: &dyn Fn(Cost) -> u64,
) -> Option<Vec<Extent>> {
    let mut wanted = items.to_vec();
    wanted.sort_unstable_by_key(|(first, count)| (*first, u32::MAX - count));
    let mut end = None;
    wanted.retain(|(first, count)| {
        let inside = end.is_some_and(|end| first + count <= end);
        end = end.max(Some(first + count));
        !inside
    });
    let aligned = |first: u32, end: u32| {
        let step = u32::from(space.align.max(1));
        let first = first / step * step;
        (first, end.div_ceil(step) * step - first)
    };
    // Names have one item each, by thousands.
    if let [(first, count)] = wanted[..] {
        let (first, count) = aligned(first, first + count);
        return dialect
            .cost(Verb::Read, space, count, setup)
            .ok()
            .map(|_| vec![Extent { space: id, first, count }]);
    }
    // A request's weight depends on its length alone; the list ends where one is too long.
    let mut weights: Vec<u64> = vec![0];
    while let Ok(cost) = dialect.cost(Verb::Read, space, u32::try_from(weights.len()).ok()?, setup) {
        weights.push(weigh(cost));
    }
    let weight = |grains: u32| weights.get(grains as usize).copied();
    // The least that a request grows by with each further grain; `None` where a longer one can weigh less.
    let growth = weights.windows(2).skip(1).map(|pair| pair[1].checked_sub(pair[0]));
    let growth: Option<u64> = growth.collect::<Option<Vec<u64>>>().and_then(|steps| steps.into_iter().min());
    let starts: Vec<u32> = wanted.iter().map(|(first, count)| aligned(*first, first + count).0).collect();
    // best[n]: least weight of the first n items; from[n]: where its last request begins.
    let mut best: Vec<u64> = vec![0];
    let mut from: Vec<usize> = vec![0];
    // The first item that a request which ends at the present one can begin with: it only ever moves on, past a gap
    // that is too wide and past what makes the request too long.
    let mut low = 0;
    for (last, (tail_first, tail_count)) in wanted.iter().enumerate() {
        let end = aligned(*tail_first, tail_first + tail_count);
        let end = end.0 + end.1;
        if last > 0 && *tail_first > wanted.get(last - 1).map_or(0, |(first, count)| first + count + gap) {
            low = last;
        }
        while starts.get(low).is_some_and(|first| low <= last && (end - first) as usize >= weights.len()) {
            low += 1;
        }
        let with = |at: usize| Some(best.get(at)?.saturating_add(weight(end - starts.get(at)?)?));
        // The request before, made longer. Without this item no plan is better than the best so far, and this item
        // costs at least its growth, or a request of its own: what costs no more than that need not be compared.
        let kept = from.get(last).copied().filter(|at| last > 0 && *at >= low);
        let least = growth.and_then(|growth| {
            let before =
                wanted.get(last.checked_sub(1)?).map(|(first, count)| aligned(*first, first + count))?;
            let grown = growth * u64::from(end.saturating_sub(before.0 + before.1));
            Some(best.get(last)?.saturating_add(grown.min(weight(end - starts.get(last)?)?)))
        });
        let longer = kept.and_then(|at| Some((with(at)?, at))).filter(|(sum, _)| least >= Some(*sum));
        // Of equal ones the last, so that the first requests are the long ones. An item that is too long for any
        // request has none.
        let every = || (low..=last).rev().filter_map(|at| Some((with(at)?, at))).min_by_key(|(sum, _)| *sum);
        let (total, begin) = longer.or_else(every)?;
        best.push(total);
        from.push(begin);
    }
    let mut requests = vec![];
    let mut last = wanted.len();
    while last > 0 {
        let begin = *from.get(last)?;
        let (first, _) = *wanted.get(begin)?;
        let (tail_first, tail_count) = *wanted.get(last - 1)?;
        let (first, count) = aligned(first, tail_first + tail_count);
        requests.push(Extent { space: id, first, count });
        last = begin;
    }
    requests.reverse();
    Some(requests)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::line_time::LineTime;
    use crate::protocol::dialect;
    use proptest::prelude::*;

    const LINE: LineTime = LineTime {
        char_nanos: 572_917,
        frame_gap: 2006,
        own_frame_gap: 2006,
        timeout: 0,
        turnaround: 0,
        hurry: false,
    };

    fn planned(items: &[Item], gap: u32, max_read: u32) -> Option<Vec<(u32, u32)>> {
        let rtu = dialect("modbus-rtu").unwrap();
        let setup = Setup { numbers: vec![("max-read", max_read)], words: vec![], ..Setup::default() };
        let requests = cover(rtu, &rtu.notation().standing()[3], SpaceId(3), items, gap, &setup, &|cost| {
            LINE.weight(cost)
        })?;
        Some(requests.iter().map(|extent| (extent.first, extent.count)).collect())
    }

    fn weight_of(requests: &[(u32, u32)], max_read: u32) -> Option<u64> {
        let rtu = dialect("modbus-rtu").unwrap();
        let setup = Setup { numbers: vec![("max-read", max_read)], words: vec![], ..Setup::default() };
        let cost = |count: u32| rtu.cost(Verb::Read, &rtu.notation().standing()[3], count, &setup).ok();
        requests.iter().map(|(_, count)| cost(*count).map(|cost| LINE.weight(cost))).sum()
    }

    /// The least weight over every way to put the items into groups, whatever their order.
    fn brute(items: &[Item], gap: u32, max_read: u32) -> Option<u64> {
        fn assign(
            items: &[Item],
            groups: &mut Vec<Vec<Item>>,
            best: &mut Option<u64>,
            gap: u32,
            max_read: u32,
        ) {
            let Some((item, rest)) = items.split_first() else {
                let hulls: Option<Vec<(u32, u32)>> = groups.iter().map(|group| hull(group, gap)).collect();
                if let Some(total) = hulls.and_then(|hulls| weight_of(&hulls, max_read)) {
                    *best = Some(best.map_or(total, |least| least.min(total)));
                }
                return;
            };
            for at in 0..groups.len() {
                groups[at].push(*item);
                assign(rest, groups, best, gap, max_read);
                groups[at].pop();
            }
            groups.push(vec![*item]);
            assign(rest, groups, best, gap, max_read);
            groups.pop();
        }
        /// First and count of a request over the group, if no gap in it is wider than `read-gap`.
        fn hull(group: &[Item], gap: u32) -> Option<(u32, u32)> {
            let mut sorted = group.to_vec();
            sorted.sort_unstable();
            let mut end = sorted[0].0;
            for (first, count) in &sorted {
                if *first > end + gap {
                    return None;
                }
                end = end.max(first + count);
            }
            Some((sorted[0].0, end - sorted[0].0))
        }
        let mut best = None;
        assign(items, &mut vec![], &mut best, gap, max_read);
        best
    }

    #[test]
    fn neighbours_are_joined_and_gaps_only_where_that_is_allowed() {
        assert_eq!(planned(&[(0, 2), (2, 2)], 0, 125), Some(vec![(0, 4)]));
        assert_eq!(planned(&[(0, 2), (4, 2)], 0, 125), Some(vec![(0, 2), (4, 2)]));
        assert_eq!(planned(&[(0, 2), (4, 2)], 2, 125), Some(vec![(0, 6)]));
        assert_eq!(
            planned(&[(0, 2), (100, 2)], 98, 125),
            Some(vec![(0, 2), (100, 2)]),
            "98 registers cost more than a request"
        );
        assert_eq!(
            planned(&[(0, 2), (2, 2), (4, 2)], 0, 3),
            Some(vec![(0, 2), (2, 2), (4, 2)]),
            "no value is split"
        );
        assert_eq!(planned(&[(0, 4)], 0, 3), None);
        assert_eq!(planned(&[], 0, 3), Some(vec![]));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(512))]
        #[test]
        fn no_other_set_of_requests_takes_less_time(
            items in prop::collection::vec((0u32..24, 1u32..5), 1..7), gap in 0u32..5, max_read in 4u32..13,
        ) {
            let requests = planned(&items, gap, max_read).unwrap();
            for (first, count) in &items {
                prop_assert!(requests.iter().any(|(start, len)| start <= first && first + count <= start + len));
            }
            prop_assert_eq!(weight_of(&requests, max_read), brute(&items, gap, max_read));
        }
    }
}

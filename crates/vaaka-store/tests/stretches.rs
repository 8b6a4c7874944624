//! Points that are put together to stretches.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use jiff::Timestamp;
use vaaka_store::At;
use vaaka_store::ids::SegmentId;
use vaaka_store::stretches::{Piece, Stretch, put_together};

fn at(hours: i64) -> At {
    At(Timestamp::from_second(hours * 3600).unwrap())
}

fn piece(segment: i64, place: i64, hours: i64, count: i64, value: f64) -> Piece {
    let stretch = Stretch {
        first_at: at(hours),
        last_at: at(hours + count - 1),
        segment_id: SegmentId(segment),
        count,
        least: value - 1.0,
        most: value + 1.0,
        mean: value,
        ewma: Some(value / 2.0),
        std_dev: None,
        ewma_half_width: None,
        center_line: Some(value),
        lower_control_limit: None,
        upper_control_limit: Some(value + 3.0),
        lower_tolerance_limit: None,
        upper_tolerance_limit: None,
        provisional: false,
    };
    Piece { place, stretch }
}

#[test]
fn a_stretch_holds_its_points_and_ends_with_the_limits_of_the_last() {
    let made = put_together(vec![piece(1, 0, 0, 3, 2.0), piece(1, 0, 3, 1, 6.0)]);
    let [one] = made.as_slice() else { panic!("{made:?}") };
    assert_eq!((one.count, one.least, one.most, one.mean), (4, 1.0, 7.0, 3.0));
    assert_eq!((one.first_at, one.last_at), (at(0), at(3)));
    assert_eq!((one.center_line, one.upper_control_limit), (Some(6.0), Some(9.0)));
    assert_eq!(one.ewma, Some(1.5), "weighed by the points");
}

#[test]
fn no_stretch_crosses_a_segment_and_places_may_be_apart() {
    let pieces = vec![piece(1, 0, 0, 1, 1.0), piece(2, 0, 1, 1, 5.0), piece(1, 0, 2, 1, 3.0)];
    let made = put_together(pieces);
    let seen: Vec<(i64, i64, f64)> =
        made.iter().map(|one| (one.segment_id.0, one.count, one.mean)).collect();
    assert_eq!(seen, [(1, 2, 2.0), (2, 1, 5.0)]);
    assert!(put_together(vec![]).is_empty());
}

#[test]
fn what_only_some_points_have_is_the_mean_of_those() {
    let mut first = piece(1, 0, 0, 1, 1.0);
    first.stretch.ewma = None;
    let mut second = piece(1, 0, 1, 1, 2.0);
    second.stretch.std_dev = Some(0.25);
    let made = put_together(vec![first, second]);
    assert_eq!((made[0].ewma, made[0].std_dev), (Some(1.0), Some(0.25)));
}

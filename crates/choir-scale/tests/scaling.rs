//! Sizes, places and colours after scaling.

use choir_scale::{ScaleError, Scaler};

#[test]
fn a_plane_goes_into_its_part_and_leaves_the_rest() {
    let from: Vec<u8> = [[10; 4], [90; 4]].concat().repeat(4);
    let mut to = vec![7; 8 * 4];
    Scaler::default().plane((&from, (8, 4)), (&mut to, (8, 4)), ((2, 1), (4, 2))).expect("scaled");
    assert_eq!(to[..8], [7; 8]);
    assert_eq!(to[24..], [7; 8]);
    let row = &to[8..16];
    assert_eq!((row[0], row[1], row[6], row[7]), (7, 7, 7, 7));
    assert!(row[2] < 20 && row[5] > 80 && row[3] < row[4], "{row:?}");
}

#[test]
fn pixels_keep_their_colours_and_what_cannot_be_seen_colours_nothing() {
    let half: Vec<u8> = [[200, 100, 50, 255], [0, 255, 0, 0]].concat().repeat(8);
    let scaled = Scaler::default().rgba(&half, (4, 4), (2, 2)).expect("scaled");
    for p in scaled.chunks(4) {
        assert!(p[0].abs_diff(200) < 3 && p[1].abs_diff(100) < 3 && p[2].abs_diff(50) < 3, "{p:?}");
        assert!(p[3].abs_diff(128) < 30, "{p:?}");
    }
}

#[test]
fn what_does_not_fit_is_refused() {
    let mut scaler = Scaler::default();
    let mut to = [0; 16];
    assert!(matches!(scaler.plane((&[0; 15], (4, 4)), (&mut to, (4, 4)), ((0, 0), (4, 4))), Err(ScaleError::Buffer(_))));
    assert!(matches!(scaler.plane((&[0; 16], (4, 4)), (&mut to, (5, 4)), ((0, 0), (4, 4))), Err(ScaleError::Buffer(_))));
    assert!(matches!(scaler.plane((&[0; 16], (4, 4)), (&mut to, (4, 4)), ((1, 0), (4, 4))), Err(ScaleError::Part(_))));
    assert!(matches!(scaler.rgba(&[0; 63], (4, 4), (2, 2)), Err(ScaleError::Buffer(_))));
}

//! The face of a block: where it has been used, and where it may be used next.

use serde::{Deserialize, Serialize};

/// A place on the face, in millimetres from its lower left corner.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Spot {
    /// Along.
    pub x: f64,
    /// Up.
    pub y: f64,
}

/// A rectangular face and its rule of spacing (for hardness blocks: three diameters from centre
/// to centre, two and a half to the edge).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Face {
    /// Width, mm.
    pub width: f64,
    /// Height, mm.
    pub height: f64,
    /// Least distance between two places, mm.
    pub spacing: f64,
    /// Least distance from the edge, mm.
    pub edge: f64,
}

impl Face {
    /// The places of the face in rows, so that each keeps its distance from the others.
    #[must_use]
    pub fn spots(&self) -> Vec<Spot> {
        let count = |length: f64| {
            let room = length - 2.0 * self.edge;
            // A hair of tolerance, so that 30 mm hold eleven places at 3 mm.
            if room < 0.0 || self.spacing <= 0.0 {
                0
            } else {
                (room / self.spacing + 1e-9) as u32 + 1
            }
        };
        let (columns, rows) = (count(self.width), count(self.height));
        (0..rows)
            .flat_map(|row| (0..columns).map(move |column| (column, row)))
            .map(|(column, row)| Spot {
                x: self.edge + f64::from(column) * self.spacing,
                y: self.edge + f64::from(row) * self.spacing,
            })
            .collect()
    }
}

/// A face with the places that are used up.
#[derive(Debug, Clone, PartialEq)]
pub struct UsedFace {
    /// The face.
    pub face: Face,
    /// Where it was used, or bears a mark.
    pub used: Vec<Spot>,
}

impl UsedFace {
    /// The places that are left, in the order in which they are taken.
    #[must_use]
    pub fn free(&self) -> Vec<Spot> {
        free_spots(&self.face, &self.used)
    }
}

/// The places that keep their distance from all that were used, in the order in which they are
/// taken.
#[must_use]
pub fn free_spots(face: &Face, used: &[Spot]) -> Vec<Spot> {
    let least = face.spacing - 1e-9;
    let far = |a: &Spot, b: &Spot| (a.x - b.x).hypot(a.y - b.y) >= least;
    face.spots().into_iter().filter(|spot| used.iter().all(|used| far(spot, used))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    const BLOCK: Face = Face { width: 35.0, height: 20.0, spacing: 3.0, edge: 2.5 };

    #[test]
    fn places_keep_their_distance() {
        // (35 − 5)/3 + 1 = 11 along, (20 − 5)/3 + 1 = 6 up.
        let spots = BLOCK.spots();
        assert_eq!(spots.len(), 66);
        assert!(spots.iter().all(|s| s.x >= 2.5 && s.x <= 32.5 && s.y >= 2.5 && s.y <= 17.5));
    }

    #[test]
    fn a_place_between_two_takes_both() {
        let all = free_spots(&BLOCK, &[]);
        assert_eq!(free_spots(&BLOCK, &[all[0]]).len(), 65);
        let between = Spot { x: all[0].x + 1.5, y: all[0].y };
        assert_eq!(free_spots(&BLOCK, &[between]).len(), 64);
    }

    #[test]
    fn a_face_without_room_has_no_place() {
        assert!(Face { width: 4.0, ..BLOCK }.spots().is_empty());
        assert!(Face { spacing: 0.0, ..BLOCK }.spots().is_empty());
    }
}

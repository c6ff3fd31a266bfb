//! The colours, one set for terminal and charts. They were picked to stay apart in brightness as well as in hue, so that
//! they can be distinguished without full colour vision and in grey.

/// A colour by its parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Colour(pub(crate) u8, pub(crate) u8, pub(crate) u8);

/// Honey: what is being talked about.
pub(crate) const HONEY: Colour = Colour(0xC9, 0x7B, 0x00);
/// Deep teal: what was held out.
pub(crate) const TEAL: Colour = Colour(0x00, 0x5F, 0x6B);
/// Plum: reference values.
pub(crate) const PLUM: Colour = Colour(0xB0, 0x4E, 0x8C);
/// Ash: text of less weight.
pub(crate) const ASH: Colour = Colour(0x7A, 0x72, 0x66);
/// Brick: errors.
pub(crate) const BRICK: Colour = Colour(0xB8, 0x3A, 0x1E);

/// Ground of charts and pages.
pub(crate) const PAPER: Colour = Colour(0xFC, 0xFA, 0xF5);
/// Letters on it.
pub(crate) const INK: Colour = Colour(0x2B, 0x26, 0x20);
/// Letters of less weight on it: captions, ticks, axes.
pub(crate) const QUIET_INK: Colour = Colour(0x66, 0x5E, 0x53);
/// Thin lines on it: grids, borders.
pub(crate) const RULE: Colour = Colour(0xE4, 0xDC, 0xCA);

/// Training text, in every drawing.
pub(crate) const TRAINING: Colour = HONEY;
/// Validation text, in every drawing.
pub(crate) const VALIDATION: Colour = TEAL;
/// The entropy of a text, in every drawing.
pub(crate) const FLOOR: Colour = PLUM;
/// A unigram model, in every drawing.
pub(crate) const UNIGRAM: Colour = ASH;

impl Colour {
    /// As `#rrggbb`.
    pub(crate) fn hex(self) -> String {
        format!("#{:02x}{:02x}{:02x}", self.0, self.1, self.2)
    }

    /// As a terminal style.
    pub(crate) fn style(self) -> anstyle::Style {
        anstyle::Style::new().fg_color(Some(anstyle::RgbColor(self.0, self.1, self.2).into()))
    }
}

//! The palette: styles by meaning, chosen to stay apart for readers with any common colour vision
//! and readable on dark and light grounds. Six colours belong to the phases, and nothing else has one
//! of them. Meaning never rests on colour alone.

use anstyle::{Ansi256Color, AnsiColor, Style};
use vshelf_core::Phase;

/// Styles by meaning.
#[derive(Clone, Copy, Debug, Default)]
pub struct Palette;

const fn colour(index: u8) -> Style {
    Style::new().fg_color(Some(anstyle::Color::Ansi256(Ansi256Color(index))))
}

impl Palette {
    /// The heading of a table or section.
    pub const HEADING: Style = Style::new().dimmed();
    /// What the eye should find first.
    pub const STRONG: Style = Style::new().bold();
    /// What only matters on a second look.
    pub const QUIET: Style = Style::new().dimmed();
    /// Text meant for copying: commands.
    pub const COMMAND: Style = Style::new().bold();
    /// Paths and addresses.
    pub const PATH: Style = Style::new().underline();
    /// Something to look at.
    pub const WARNING: Style = colour(136).bold();
    /// Something that went wrong.
    pub const ERROR: Style = Style::new()
        .bold()
        .fg_color(Some(anstyle::Color::Ansi(AnsiColor::Red)));

    /// The colour of a line's phase, for spines and words.
    pub const fn phase(phase: Phase) -> Style {
        match phase {
            Phase::Preview => colour(170),
            Phase::Current => colour(27),
            Phase::Lts => colour(29),
            Phase::Maintenance => colour(166),
            Phase::Ended => colour(246),
            Phase::Unknown => colour(60),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PHASES: [Phase; 6] = Phase::ALL;

    /// Linear light of a colour of the 256, without its sixteen first, which every terminal has
    /// its own way (xterm, "256 colours").
    fn light(style: Style) -> [f64; 3] {
        let Some(anstyle::Color::Ansi256(index)) = style.get_fg_color() else {
            panic!("{style:?} is none of the 256");
        };
        let step = |level: u8| if level == 0 { 0 } else { 55 + 40 * level };
        let channels = match index.0 {
            0..16 => panic!("{index:?} is the terminal's own"),
            cube @ 16..232 => {
                let cube = cube - 16;
                [step(cube / 36), step(cube / 6 % 6), step(cube % 6)]
            }
            grey => [8 + 10 * (grey - 232); 3],
        };
        channels.map(linear)
    }

    /// sRGB to linear light (IEC 61966-2-1).
    fn linear(channel: u8) -> f64 {
        let value = f64::from(channel) / 255.0;
        match value <= 0.04045 {
            true => value / 12.92,
            false => ((value + 0.055) / 1.055).powf(2.4),
        }
    }

    fn luminance([red, green, blue]: [f64; 3]) -> f64 {
        0.2126 * red + 0.7152 * green + 0.0722 * blue
    }

    #[test]
    fn all_of_it_is_readable_on_white_and_on_a_dark_ground() {
        let others = [Palette::WARNING];
        let dark = luminance([0x11, 0x15, 0x1a].map(linear));
        for style in PHASES.map(Palette::phase).into_iter().chain(others) {
            let own = luminance(light(style));
            // For graphical objects and large or bold text (WCAG 2.2, 1.4.3 and 1.4.11).
            assert!(1.05 / (own + 0.05) >= 3.0, "{style:?} on white");
            assert!(
                (own + 0.05) / (dark + 0.05) >= 3.0,
                "{style:?} on a dark ground"
            );
        }
    }

    /// How colours look to people without one of the three kinds of cones, in linear light
    /// (Machado, Oliveira and Fernandes 2009, severity 1.0), and to the others.
    const VISIONS: [(&str, [[f64; 3]; 3]); 4] = [
        (
            "all cones",
            [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]],
        ),
        (
            "protanopia",
            [
                [0.152286, 1.052583, -0.204868],
                [0.114503, 0.786281, 0.099216],
                [-0.003882, -0.048116, 1.051998],
            ],
        ),
        (
            "deuteranopia",
            [
                [0.367322, 0.860646, -0.227968],
                [0.280085, 0.672501, 0.047413],
                [-0.011820, 0.042940, 0.968881],
            ],
        ),
        (
            "tritanopia",
            [
                [1.255528, -0.076749, -0.178779],
                [-0.078411, 0.930809, 0.147602],
                [0.004733, 0.691367, 0.303900],
            ],
        ),
    ];

    /// CIE 1976 L*a*b* under D65.
    fn lab([red, green, blue]: [f64; 3]) -> [f64; 3] {
        let curve = |value: f64| match value > 0.008856 {
            true => value.cbrt(),
            false => 7.787 * value + 16.0 / 116.0,
        };
        let x = curve((0.4124 * red + 0.3576 * green + 0.1805 * blue).max(0.0) / 0.9505);
        let y = curve((0.2126 * red + 0.7152 * green + 0.0722 * blue).max(0.0));
        let z = curve((0.0193 * red + 0.1192 * green + 0.9505 * blue).max(0.0) / 1.089);
        [116.0 * y - 16.0, 500.0 * (x - y), 200.0 * (y - z)]
    }

    #[test]
    fn phases_stay_apart_whatever_cones_a_reader_has() {
        /// Several times what is told apart side by side, about 2.3.
        const APART: f64 = 15.0;
        for (vision, matrix) in VISIONS {
            let seen = |phase: Phase| {
                let light = light(Palette::phase(phase));
                let dot = |row: [f64; 3]| row.iter().zip(light).map(|(a, b)| a * b).sum::<f64>();
                lab(matrix.map(dot))
            };
            for (at, one) in PHASES.into_iter().enumerate() {
                for other in PHASES.into_iter().skip(at + 1) {
                    let (left, right) = (seen(one), seen(other));
                    let squares = left.iter().zip(right).map(|(a, b)| (a - b).powi(2));
                    let apart = squares.sum::<f64>().sqrt();
                    assert!(
                        apart >= APART,
                        "{one} and {other} with {vision}: {apart:.1}"
                    );
                }
            }
        }
    }
}

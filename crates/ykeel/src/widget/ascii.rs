//! Signs of ASCII for a terminal that has no others: shapes stay apart as far as that goes.

use ratatui::buffer::Buffer;

/// The sign that stands for another one.
fn plain(sign: char) -> char {
    match sign {
        ' '..='~' => sign,
        '\u{a0}' => ' ',
        '─' | '╌' | '┈' | '−' | '–' | '—' => '-',
        '━' | '═' => '=',
        '╍' => '~',
        '┄' | '·' | '∙' => '.',
        '╴' | '╶' => '!',
        '│' | '┃' | '║' | '┆' | '┊' | '╎' | '▏' | '▎' => '|',
        '╭' | '╮' | '╯' | '╰' | '┌' | '┐' | '└' | '┘' | '┏' | '┓' | '┗' | '┛' | '├' | '┤' | '┬' | '┴' | '┼' => {
            '+'
        }
        '╔' | '╗' | '╚' | '╝' | '╟' | '╢' | '╤' | '╧' => '+',
        '╸' | '╺' => '-',
        '╱' => '/',
        '╲' => '\\',
        '╳' | '×' => 'x',
        '●' | '■' | '•' | '✓' => '*',
        '◐' => '%',
        '○' | '◌' | '°' | '◦' => 'o',
        '∅' => '0',
        '▶' | '▸' | '→' | '›' | '↷' => '>',
        '◂' | '←' | '‹' => '<',
        '▲' | '▴' | '↑' => '^',
        '↓' => 'v',
        '…' | '⋮' => '~',
        '░' | '∷' => ':',
        '▒' => '&',
        '▓' => '#',
        '≡' => '=',
        '≠' => '!',
        '█' | '▉' | '▊' | '▋' | '▌' | '▍' => '#',
        '▁' | '▂' | '▃' => '_',
        '▄' | '▅' | '▆' | '▇' => 'I',
        'µ' => 'u',
        _ => '?',
    }
}

/// Puts signs of ASCII in the place of all others that were drawn.
pub(crate) fn draw(buf: &mut Buffer) {
    for cell in &mut buf.content {
        if !cell.symbol().is_ascii() {
            let sign = cell.symbol().chars().next().map_or(' ', plain);
            cell.set_char(sign);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shapes_that_say_different_things_stay_apart() {
        // The states of a rung; those of a stage; what the ground holds.
        for signs in [&['━', '╍', '┄', '╴'][..], &['●', '◐', '○'], &['·', ':', '▒', '▓', '≡', '×', '~']] {
            let drawn: std::collections::BTreeSet<char> = signs.iter().map(|sign| plain(*sign)).collect();
            assert_eq!(drawn.len(), signs.len(), "{signs:?}: {drawn:?}");
        }
    }
}

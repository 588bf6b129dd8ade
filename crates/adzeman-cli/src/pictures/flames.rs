//! Stacks as a flame graph.

use inferno::flamegraph::color::{BackgroundColor, BasicPalette, Color};
use inferno::flamegraph::{Options, Palette, from_lines};

use super::{Failure, failed};

/// Draws stacks, as lines of text with how many samples each has, of which there is one at least.
pub(crate) fn draw(folded: &str, title: &str) -> Result<String, Failure> {
    let mut options = Options::default();
    title.clone_into(&mut options.title);
    "samples".clone_into(&mut options.count_name);
    "function:".clone_into(&mut options.name_type);
    options.colors = Palette::Basic(BasicPalette::Aqua);
    options.bgcolors = Some(BackgroundColor::Flat(Color { r: 255, g: 255, b: 255 }));
    options.image_width = Some(1280);
    options.min_width = 0.1;
    options.deterministic = true;
    // What opens the file need not run anything to see it.
    options.no_javascript = true;
    let mut svg = Vec::new();
    from_lines(&mut options, folded.lines(), &mut svg).map_err(failed)?;
    String::from_utf8(svg).map_err(failed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_function_is_drawn_with_its_share() {
        let svg = draw("frame.update;update;<fare> (a.lua:3) 30\nframe.update;update 10\n", "lockside").unwrap();
        for part in ["lockside", "update (40 samples, 100.00%)", "&lt;fare&gt; (a.lua:3) (30 samples, 75.00%)"] {
            assert!(svg.contains(part), "{part}: {svg}");
        }
    }
}

//! The pictures of the scenario: an aerial image that tells where it lies, and a scan of an old map that
//! does not.

use std::path::Path;

use bothros_core::terrain::{Light, contours, hillshade};
use bothros_core::{Cell, Connection, Grid, cells_along};

use crate::features::Line;
use crate::noise::Noise;
use crate::scenario::{FRAME, Scenario};

/// A picture of three colours.
pub struct Drawing {
    /// columns
    pub width: usize,
    /// red, green, blue of each pixel, row by row
    pub rgb: Vec<u8>,
    /// where it lies: left, column step, row step, top, column step, row step
    pub geo_transform: [f64; 6],
}

type Colour = [f64; 3];

fn mix(a: Colour, b: Colour, share: f64) -> Colour {
    let t = share.clamp(0.0, 1.0);
    [a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t, a[2] + (b[2] - a[2]) * t]
}

fn bytes(c: Colour) -> [u8; 3] {
    c.map(|v| v.round().clamp(0.0, 255.0) as u8)
}

/// The land as seen from above, a pixel to a cell of the survey.
pub fn aerial(scenario: &Scenario) -> Drawing {
    let (rows, cols) = (FRAME.rows, FRAME.cols);
    let rim = Grid::from_fn(rows + 2, cols + 2, |c| {
        let at = Cell { row: c.row.clamp(1, rows) - 1, col: c.col.clamp(1, cols) - 1 };
        scenario.bare.values()[at.row * cols + at.col]
    });
    let light = Light { azimuth: 150.0, altitude: 50.0, ..Light::default() };
    let shade = hillshade(&rim, FRAME.cell_size, FRAME.cell_size, light);
    let mut built = Grid::from_fn(rows, cols, |_| 0u8);
    for (_, line) in &scenario.embankments {
        for cell in cells_along(line, &FRAME, Connection::Four) {
            for (dr, dc) in [(0, 0), (0, 1), (1, 0), (0, -1), (-1, 0)] {
                let (r, c) = (cell.row as isize + dr, cell.col as isize + dc);
                if r >= 0 && c >= 0 && (r as usize) < rows && (c as usize) < cols {
                    built.values_mut()[r as usize * cols + c as usize] = 1;
                }
            }
        }
    }
    let mut rgb = Vec::with_capacity(rows * cols * 3);
    for row in 0..rows {
        for col in 0..cols {
            let i = row * cols + col;
            let (x, y) = FRAME.centre(Cell { row, col });
            // Woods in patches, meadows between them, heath higher up.
            let patch = Noise(611).fractal(x / 420.0, y / 420.0, 4, 0.55);
            let grain = Noise(612).fractal(x / 14.0, y / 14.0, 2, 0.6);
            let z = scenario.bare.values()[i] as f64;
            let mut c = mix([128.0, 138.0, 84.0], [70.0, 92.0, 58.0], (patch * 4.0 + 0.3).clamp(0.0, 1.0));
            c = mix(c, [150.0, 132.0, 98.0], ((z - 230.0) / 120.0).clamp(0.0, 0.8));
            c = mix(c, [60.0, 68.0, 44.0], 0.25 * grain.abs());
            // Wet ground along the channels is darker and greener.
            let area = scenario.accumulation.values()[i] as f64;
            c = mix(c, [52.0, 84.0, 52.0], ((area.max(1.0).log10() - 3.0) / 2.0).clamp(0.0, 0.7));
            let light = shade.values()[i] as f64;
            let lit = if light.is_nan() { 1.0 } else { 0.55 + 0.6 * light };
            c = c.map(|v| v * lit);
            if area * FRAME.cell_size * FRAME.cell_size > 1.2e5 {
                c = mix(c, [58.0, 74.0, 84.0], 0.75);
            }
            if scenario.reservoir.values()[i] {
                c = [44.0, 66.0, 82.0];
            }
            if built.values()[i] == 1 {
                c = [176.0, 170.0, 158.0];
            }
            rgb.extend(bytes(c));
        }
    }
    Drawing { width: cols, rgb, geo_transform: PLACE }
}

/// Where the land as seen from above lies.
const PLACE: [f64; 6] = [FRAME.left, FRAME.cell_size, 0.0, FRAME.top, 0.0, -FRAME.cell_size];

/// The file that the simulated map server draws from; its name changes when its content does.
const AERIAL: &str = "aerial_1.png";

/// Writes the land as seen from above into a directory, for the simulated map server.
///
/// # Errors
/// Where the file cannot be written.
pub fn write_aerial(scenario: &Scenario, directory: &Path) -> anyhow::Result<Drawing> {
    let drawing = aerial(scenario);
    std::fs::create_dir_all(directory)?;
    let file = std::io::BufWriter::new(std::fs::File::create(directory.join(AERIAL))?);
    let height = drawing.rgb.len() / 3 / drawing.width;
    let mut encoder = png::Encoder::new(file, drawing.width as u32, height as u32);
    encoder.set_color(png::ColorType::Rgb);
    encoder.write_header()?.write_image_data(&drawing.rgb)?;
    Ok(drawing)
}

/// Reads what [`write_aerial`] wrote; `None` where it is not there, or is not whole.
pub fn read_aerial(directory: &Path) -> Option<Drawing> {
    let file = std::io::BufReader::new(std::fs::File::open(directory.join(AERIAL)).ok()?);
    let mut reader = png::Decoder::new(file).read_info().ok()?;
    let mut rgb = vec![0; reader.output_buffer_size()?];
    let info = reader.next_frame(&mut rgb).ok()?;
    let whole = (info.width as usize, info.height as usize, info.color_type)
        == (FRAME.cols, FRAME.rows, png::ColorType::Rgb);
    whole.then_some(Drawing { width: FRAME.cols, rgb, geo_transform: PLACE })
}

/// Metres of a pixel of the scan, and by how much the paper lay askew on the glass.
const SCAN_M: f64 = 5.2;
const ASKEW: f64 = 0.026;
const MARGIN: f64 = 130.0;
const INTERVAL_M: f64 = 20.0;

/// Ink on paper.
struct Sheet {
    width: usize,
    height: usize,
    rgb: Vec<f64>,
}

impl Sheet {
    fn dab(&mut self, x: f64, y: f64, radius: f64, colour: Colour, strength: f64) {
        let (x0, x1) =
            ((x - radius - 1.0).floor().max(0.0) as usize, (x + radius + 1.0).ceil().max(0.0) as usize);
        let (y0, y1) =
            ((y - radius - 1.0).floor().max(0.0) as usize, (y + radius + 1.0).ceil().max(0.0) as usize);
        for py in y0..=y1.min(self.height - 1) {
            for px in x0..=x1.min(self.width - 1) {
                let away = (px as f64 + 0.5 - x).hypot(py as f64 + 0.5 - y);
                let cover = (radius + 0.5 - away).clamp(0.0, 1.0) * strength;
                if cover > 0.0 {
                    let at = (py * self.width + px) * 3;
                    for (under, ink) in self.rgb[at..at + 3].iter_mut().zip(colour) {
                        *under = under.min(*under * (1.0 - cover) + ink * cover);
                    }
                }
            }
        }
    }

    fn line(&mut self, points: &[[f64; 2]], radius: f64, colour: Colour, strength: f64) {
        for pair in points.windows(2) {
            let length = (pair[1][0] - pair[0][0]).hypot(pair[1][1] - pair[0][1]);
            let steps = (length / 0.6).ceil().max(1.0) as usize;
            for s in 0..=steps {
                let t = s as f64 / steps as f64;
                let at = |k: usize| pair[0][k] + (pair[1][k] - pair[0][k]) * t;
                self.dab(at(0), at(1), radius, colour, strength);
            }
        }
    }

    /// Writes figures and the letters E and N with strokes, `size` pixels high, from the lower left corner.
    fn write(&mut self, text: &str, [x, y]: [f64; 2], size: f64, colour: Colour) {
        let mut pen = x;
        for letter in text.chars() {
            for stroke in strokes(letter) {
                let placed: Vec<[f64; 2]> =
                    stroke.iter().map(|[u, v]| [pen + u * size * 0.55, y - v * size]).collect();
                self.line(&placed, 0.9, colour, 0.95);
            }
            pen += size * 0.82;
        }
    }
}

/// Strokes of a letter in a box one wide and one high, from its lower left corner.
fn strokes(letter: char) -> Vec<Vec<[f64; 2]>> {
    let (bl, br, ml, mr, tl, tr) = ([0.0, 0.0], [1.0, 0.0], [0.0, 0.5], [1.0, 0.5], [0.0, 1.0], [1.0, 1.0]);
    match letter {
        '0' => vec![vec![bl, br, tr, tl, bl]],
        '1' => vec![vec![[0.25, 0.75], [0.6, 1.0], [0.6, 0.0]]],
        '2' => vec![vec![tl, tr, mr, ml, bl, br]],
        '3' => vec![vec![tl, tr, br, bl], vec![ml, mr]],
        '4' => vec![vec![tl, ml, mr], vec![tr, br]],
        '5' => vec![vec![tr, tl, ml, mr, br, bl]],
        '6' => vec![vec![tr, tl, bl, br, mr, ml]],
        '7' => vec![vec![tl, tr, [0.4, 0.0]]],
        '8' => vec![vec![bl, br, tr, tl, bl], vec![ml, mr]],
        '9' => vec![vec![mr, ml, tl, tr, br, bl]],
        'E' => vec![vec![tr, tl, bl, br], vec![ml, [0.8, 0.5]]],
        'N' => vec![vec![bl, tl, br, tr]],
        _ => Vec::new(),
    }
}

/// A map of the valley as it was printed long ago and scanned askew: contours, streams, the works, and a
/// grid with its coordinates.
pub fn scan(scenario: &Scenario) -> Drawing {
    let [west, south, east, north] = FRAME.extent();
    let (across, down) = ((east - west) / SCAN_M, (north - south) / SCAN_M);
    let (sin, cos) = (libm::sin(ASKEW), libm::cos(ASKEW));
    let width = (across * cos + down * sin + 2.0 * MARGIN) as usize;
    let height = (across * sin + down * cos + 2.0 * MARGIN) as usize;
    // From the ground to the paper: turned about its middle.
    let (mx, my) = ((west + east) / 2.0, (south + north) / 2.0);
    let paper = |[x, y]: [f64; 2]| {
        let (u, v) = ((x - mx) / SCAN_M, (my - y) / SCAN_M);
        [width as f64 / 2.0 + u * cos - v * sin, height as f64 / 2.0 + u * sin + v * cos]
    };
    let on_paper = |line: &[[f64; 2]]| line.iter().map(|&p| paper(p)).collect::<Vec<_>>();
    let mut sheet = Sheet { width, height, rgb: Vec::with_capacity(width * height * 3) };
    for row in 0..height {
        for col in 0..width {
            let stain = Noise(701).fractal(col as f64 / 240.0, row as f64 / 240.0, 3, 0.5);
            let grain = Noise(702).at(col as i64, row as i64) - 0.5;
            let tone = 6.0 * stain + 5.0 * grain;
            sheet.rgb.extend([240.0 + tone, 232.0 + tone, 212.0 + tone * 1.3]);
        }
    }
    // Drawn by hand from a coarser survey, so lines are smooth.
    let step = 4;
    let (rows, cols) = (FRAME.rows / step, FRAME.cols / step);
    let coarse = Grid::from_fn(rows, cols, |c| {
        let mut sum = 0.0;
        for r in 0..step {
            for k in 0..step {
                sum += scenario.bare.values()[(c.row * step + r) * FRAME.cols + c.col * step + k];
            }
        }
        sum / (step * step) as f32
    });
    let frame = bothros_core::Frame { rows, cols, cell_size: FRAME.cell_size * step as f64, ..FRAME };
    let brown = [150.0, 104.0, 62.0];
    for contour in contours(&coarse, &frame, INTERVAL_M) {
        let heavy = (contour.elevation_m / INTERVAL_M).round() as i64 % 5 == 0;
        sheet.line(
            &on_paper(&contour.points),
            if heavy { 0.85 } else { 0.45 },
            brown,
            if heavy { 0.8 } else { 0.5 },
        );
    }
    let blue = [44.0, 92.0, 140.0];
    for reach in scenario.channels.reaches.iter().filter(|r| r.strahler >= 2) {
        let line: Line = reach
            .line()
            .map(|i| FRAME.centre(Cell { row: i as usize / FRAME.cols, col: i as usize % FRAME.cols }).into())
            .collect();
        sheet.line(&on_paper(&line), 0.5 + 0.35 * reach.strahler as f64, blue, 0.9);
    }
    for (at, &water) in scenario.reservoir.values().iter().enumerate() {
        let cell = scenario.reservoir.cell(at);
        if water && cell.row.is_multiple_of(3) {
            let (x, y) = FRAME.centre(cell);
            let [u, v] = paper([x, y]);
            sheet.dab(u, v, 0.6, blue, 0.5);
        }
    }
    for (_, line) in &scenario.embankments {
        sheet.line(&on_paper(line), 1.6, [70.0, 58.0, 52.0], 0.9);
    }
    let black = [52.0, 46.0, 44.0];
    let frame_line = [[west, north], [east, north], [east, south], [west, south], [west, north]];
    sheet.line(&on_paper(&frame_line), 1.1, black, 0.95);
    const GRID: f64 = 1000.0;
    let first = |from: f64| (from / GRID).ceil() as i64;
    for i in first(west)..=(east / GRID).floor() as i64 {
        for j in first(south)..=(north / GRID).floor() as i64 {
            let (x, y) = (i as f64 * GRID, j as f64 * GRID);
            sheet.line(&on_paper(&[[x - 60.0, y], [x + 60.0, y]]), 0.6, black, 0.9);
            sheet.line(&on_paper(&[[x, y - 60.0], [x, y + 60.0]]), 0.6, black, 0.9);
        }
        let [u, v] = paper([i as f64 * GRID, north]);
        sheet.write(&format!("{} E", i * 1000), [u - 44.0, v - 16.0], 15.0, black);
    }
    for j in first(south)..=(north / GRID).floor() as i64 {
        let [u, v] = paper([west, j as f64 * GRID]);
        sheet.write(&format!("{} N", j * 1000), [u - 122.0, v + 7.0], 15.0, black);
    }
    let rgb = sheet.rgb.iter().map(|v| v.round().clamp(0.0, 255.0) as u8).collect();
    // Where it truly lies, for whoever wants to check a placing.
    let inverse = |u: f64, v: f64| {
        let (du, dv) = (u - width as f64 / 2.0, v - height as f64 / 2.0);
        [mx + (du * cos + dv * sin) * SCAN_M, my - (-du * sin + dv * cos) * SCAN_M]
    };
    let (origin, right, below) = (inverse(0.0, 0.0), inverse(1.0, 0.0), inverse(0.0, 1.0));
    let geo_transform = [
        origin[0],
        right[0] - origin[0],
        below[0] - origin[0],
        origin[1],
        right[1] - origin[1],
        below[1] - origin[1],
    ];
    Drawing { width, rgb, geo_transform }
}

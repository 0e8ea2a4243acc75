//! Pictures of the sea state: a horizon, and a swell of a given height.

use rand::RngExt;
use rand_chacha::ChaCha8Rng;

const WIDTH: u32 = 160;
const HEIGHT: u32 = 90;

/// A small picture as PNG.
pub fn sea_state(random: &mut ChaCha8Rng) -> Vec<u8> {
    let swell = random.random_range(1.0..7.0);
    let length = random.random_range(14.0..40.0);
    let light = random.random_range(0.6..1.0);
    let mut pixels = Vec::with_capacity((WIDTH * HEIGHT * 3) as usize);
    for y in 0..HEIGHT {
        for x in 0..WIDTH {
            let crest = 40.0 + swell * (f64::from(x) / length * std::f64::consts::TAU).sin();
            let depth = f64::from(y) - crest;
            let grain: f64 = random.random_range(-6.0..6.0);
            let colour = if depth < 0.0 {
                [150.0 - depth, 170.0 - depth, 190.0]
            } else {
                [40.0 - depth * 0.4, 80.0 - depth * 0.6, 110.0 - depth * 0.5]
            };
            pixels.extend(colour.map(|part| to_byte(part * light + grain)));
        }
    }
    let mut png = Vec::new();
    let mut encoder = png::Encoder::new(&mut png, WIDTH, HEIGHT);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    // The sizes are right and memory takes it, so this does not fail.
    if let Ok(mut writer) = encoder.write_header() {
        let _ = writer.write_image_data(&pixels);
    }
    png
}

#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "the value is brought into the range of a byte first"
)]
fn to_byte(part: f64) -> u8 {
    part.clamp(0.0, 255.0) as u8
}

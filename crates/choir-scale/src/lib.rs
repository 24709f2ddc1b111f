//! Gives pictures another size. A crate of its own, since the scaler is generic: where it is used
//! it is compiled, for longer than all that is around it.

use fast_image_resize::{
    CropBoxError, FilterType, ImageBufferError, ResizeAlg, ResizeError, ResizeOptions, Resizer,
    images::{TypedCroppedImageMut, TypedImage, TypedImageRef},
    pixels::{U8, U8x4},
};

/// Columns and rows.
pub type Size = (usize, usize);

/// Why a picture cannot be scaled: a buffer that is too small for its size, or a part that is not
/// within the whole.
#[derive(Debug, thiserror::Error)]
pub enum ScaleError {
    /// Of one of the two pictures.
    #[error("too few bytes for a picture of this size")]
    Buffer(#[from] ImageBufferError),
    /// It is not within the whole.
    #[error("the part does not lie within the picture")]
    Part(#[from] CropBoxError),
    /// The scaler cannot.
    #[error(transparent)]
    Scaler(#[from] ResizeError),
}

/// Keeps its buffers from picture to picture.
#[derive(Debug, Default)]
pub struct Scaler(Resizer);

impl Scaler {
    /// Scales a plane of one byte a pixel into a part of another (where it begins, and its size):
    /// bilinear, every pixel of the plane counts.
    ///
    /// # Errors
    /// Too few bytes for a size, or a part that is not within the whole.
    pub fn plane(&mut self, from: (&[u8], Size), to: (&mut [u8], Size), (at, part): (Size, Size)) -> Result<(), ScaleError> {
        let ((from, (w, h)), (to, whole)) = (from, to);
        let from = TypedImageRef::<U8>::from_buffer(w as u32, h as u32, from)?;
        let whole = TypedImage::from_buffer(whole.0 as u32, whole.1 as u32, to)?;
        let mut part = TypedCroppedImageMut::new(whole, at.0 as u32, at.1 as u32, part.0 as u32, part.1 as u32)?;
        Ok(self.0.resize_typed(&from, &mut part, &by(FilterType::Bilinear))?)
    }

    /// Scales pixels of red, green, blue and opacity, sharply: for writing and signs.
    ///
    /// # Errors
    /// Too few bytes for the size.
    pub fn rgba(&mut self, from: &[u8], (w, h): Size, to: Size) -> Result<Vec<u8>, ScaleError> {
        let mut scaled = vec![0; to.0 * to.1 * 4];
        let from = TypedImageRef::<U8x4>::from_buffer(w as u32, h as u32, from)?;
        let mut image = TypedImage::from_buffer(to.0 as u32, to.1 as u32, &mut scaled)?;
        self.0.resize_typed(&from, &mut image, &by(FilterType::CatmullRom))?;
        Ok(scaled)
    }
}

fn by(filter: FilterType) -> ResizeOptions {
    ResizeOptions::new().resize_alg(ResizeAlg::Convolution(filter))
}

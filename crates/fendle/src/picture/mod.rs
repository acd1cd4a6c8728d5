//! Answers as pictures and pages. Every file here makes one from an answer; [`write()`] puts it where it is wanted.

pub mod audit;
pub mod compare;
pub mod explore;
pub mod graph;
pub mod infer;
pub mod look;
pub mod making;
pub mod moves;
pub mod odds;
pub mod play;
pub mod why;

use std::path::Path;

use fendle_view::scene::Scene;
use fendle_view::tiles::{Theme, sheet};

use crate::files::{Files, ending};
use crate::session::Trouble;

/// Width of a sheet of pictures.
pub const SHEET: f32 = 1240.0;

/// What is drawn.
pub enum Drawing {
    /// One picture.
    Picture(Scene),
    /// A page.
    Page(String),
}

impl Drawing {
    /// Several pictures on one sheet.
    pub fn sheet(scenes: &[Scene], theme: Theme, title: &str) -> Drawing {
        Drawing::Picture(sheet(scenes, SHEET, theme, title))
    }
}

/// Refuses a name to which no picture can be written, before anything is computed. `pages`: a page can be, too.
///
/// # Errors
///
/// Words.
pub fn may_write(files: &Files, path: &Path, pages: bool) -> Result<(), Trouble> {
    files.may_write(path)?;
    match ending(path).as_str() {
        "svg" | "png" => Ok(()),
        "html" if pages => Ok(()),
        other => Err(no_picture(path, other)),
    }
}

fn no_picture(path: &Path, ending: &str) -> Trouble {
    Trouble::words(format!(
        "{} is no picture that can be written: -o wants a name ending in .svg or .png, not .{ending}",
        path.display()
    ))
}

/// Writes a drawing as the ending of the file's name says.
///
/// # Errors
///
/// Words when the ending is none of a picture, or the file cannot be written.
pub fn write(files: &Files, path: &Path, drawing: &Drawing) -> Result<(), Trouble> {
    let scene = match drawing {
        Drawing::Page(text) => return files.write(path, |out| out.write_all(text.as_bytes())),
        Drawing::Picture(scene) => scene,
    };
    match ending(path).as_str() {
        "svg" => files.write(path, |out| out.write_all(scene.svg().as_bytes())),
        "png" => match scene.png(2.0).or_else(|| scene.png(1.0)) {
            Some(bytes) => files.write(path, |out| out.write_all(&bytes)),
            None => Err(Trouble::words(format!(
                "a picture of {:.0} x {:.0} is too large for PNG; SVG has no such limit",
                scene.width, scene.height
            ))),
        },
        other => Err(no_picture(path, other)),
    }
}

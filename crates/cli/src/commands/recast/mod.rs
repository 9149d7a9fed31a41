//! `recast`: something else is made of an archive, with the same content.

mod converting;
mod cutting;

use super::in_place::typed_fit;
use crate::args::RecastArguments;
use crate::failure::{BadValue, Failure};
use under_seal_core::ground::fit::Fit;

/// Runs the command; the exit code.
pub fn run(arguments: &RecastArguments) -> Result<u8, Failure> {
    let fit = match arguments.one_volume {
        true => Some(Fit::OneVolume),
        false => typed_fit(arguments.fit.as_ref(), &arguments.configuration, &arguments.work)?,
    };
    let converts = arguments.format.is_some() || arguments.squeeze.is_some() || arguments.hide_names;
    match (fit, arguments.archives.as_slice()) {
        (Some(fit), [archive]) if !converts => cutting::cut(archive, fit, arguments),
        (Some(_), _) if !converts => Err(Failure::Value(BadValue::OneToCut)),
        (fit, _) => converting::convert_all(fit, arguments),
    }
}

//! `plan`: a delivery before it exists. Nothing is written.

mod formats;
mod report;

use super::since::Since;
use super::{pack, show};
use crate::args::{PackArguments, PlanArguments};
use crate::commands::pack::Input;
use crate::failure::Failure;
use crate::session;
use crate::settings::{Configuration, Settings};
use crate::ui::progress::ProgressLine;
use report::{Report, lines};
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::disk::free_bytes_for;
use under_seal_core::formats::abilities::Ability;
use under_seal_core::formats::registry::{Format, SEALED};
use under_seal_core::formats::sealed::volume::SpareWish;
use under_seal_core::ground::fit::{Fit, NAMED};
use under_seal_core::source::{Catalogue, Extras};
use under_seal_core::tasks::pack::parcels::{Parcel, Weights};
use under_seal_core::tasks::pack::since::Changes;
use under_seal_core::tasks::pack::{LoneVolume, canonical, check_fit, lone_volumes};
use under_seal_core::tasks::plan::{InFormat, Making, Plan, PlanError, in_open_formats};

/// What a report is made of.
struct Planning<'a> {
    settings: &'a Settings,
    catalogue: &'a Catalogue,
    plan: &'a Plan,
    /// The fits to compare, by name, where none was chosen.
    fits: Vec<(String, Fit)>,
    line_bits_a_second: Option<f64>,
    /// What it would come to in other formats, and which one was chosen.
    formats: Vec<InFormat>,
    format: &'static Format,
    /// Where parcels are wanted: how it would be divided.
    parcels: Vec<Parcel>,
    /// What has changed, where only that is planned.
    changes: Option<Changes>,
    /// What was typed behind the command.
    typed: &'a [OsString],
    /// Files that have the archive's name already, and cannot or are not to be replaced.
    in_the_way: Vec<PathBuf>,
    /// What files were found to have beside their content.
    extras: Extras,
    /// An older archive may be replaced.
    replaces: bool,
    /// Sources that are single volumes.
    lone_volumes: Vec<LoneVolume>,
    /// What it needs, and what is free, where that is too little; in bytes.
    room: Option<(u64, u64)>,
}

impl Planning<'_> {
    fn has_nothing_changed(&self) -> bool {
        self.changes.as_ref().is_some_and(Changes::is_nothing)
    }

    /// Compares what it takes at least with what is free where it goes.
    fn with_room_in(self, folder: Option<&Path>) -> Self {
        let Some(folder) = folder else { return self };
        let (fit, spares) = (self.settings.fit.value.fit, self.settings.spares.value);
        let fit = if self.parcels.is_empty() { fit } else { Fit::OneVolume };
        let squeeze = self.settings.squeeze.value.into();
        let making = Making { folder, format: self.format, fit, squeeze, spares, hide_names: false, more: 0 };
        let needed = making.least(self.plan.estimate(squeeze), &self.formats);
        Self { room: needed.zip(free_bytes_for(folder)).filter(|(needed, free)| needed > free), ..self }
    }
}

/// Runs the command; the exit code.
pub fn run(arguments: &PlanArguments) -> Result<u8, Failure> {
    let wished = &arguments.pack;
    let settings = Settings::resolve(&wished.delivery, &wished.configuration, wished.work.threads)?;
    if wished.show_settings {
        return pack::show_settings(&settings, &wished.work);
    }
    let input = Input::read(wished)?;
    input.refuse_to_plan()?;
    let sources = input.sources;
    // Where a place or a name is typed, it is looked at as pack does; before that is decided, a plan needs none.
    let is_typed = wished.to.is_some() || wished.delivery.shape.name.is_some();
    let (target, format) = match pack::target(wished, &settings, &sources) {
        Ok((target, format)) => (Some(target), format),
        Err(failure) if is_typed => return Err(failure),
        Err(_) => (None, settings.format.as_ref().map_or(&SEALED, |format| format.value)),
    };
    // Changes get a name of their own where none is typed.
    let is_named_so = is_typed || wished.since.since.is_none();
    let folder = target.as_ref().map(|target| target.folder.clone());
    let target = target.filter(|_| is_named_so);
    pack::message(&wished.message, format)?;
    check_fit(settings.fit.value.fit, format)?;
    let hide_names = settings.hide_names.value;
    let parcels_wished = wished.delivery.shape.parcels;
    let cut = format.abilities.volumes && settings.fit.value.fit != Fit::OneVolume;
    format.refuse_what_it_lacks(&[
        (parcels_wished, Ability::Parcels),
        (hide_names, Ability::HiddenNames),
        (settings.spares.value != SpareWish::NONE, Ability::Spares),
        // Others are planned all the same, and told to be too long.
        (cut, Ability::Volumes),
    ])?;
    let choice = Input::choice(wished, settings.packing_choice(&wished.delivery, format)?);
    let progress = ProgressLine::for_writing(Fit::OneVolume, &wished.work);
    let context = session::context(&progress, settings.threads.as_ref().map(|threads| threads.value));
    format.refuse_what_it_lacks(&[(wished.since.since.is_some(), Ability::Changes)])?;
    let in_the_way = target.map(|target| target.in_the_way(wished.replace, format, &context)).unwrap_or_default();
    let since = Since::load(&wished.since, &wished.seal.password, &wished.work)?;
    let own_files = canonical(since.as_ref().map_or(&[], |since| &since.files));
    let catalogue = Catalogue::gather(&sources, &choice, &|path| own_files.contains(path), &context)?;
    let (changes, catalogue) = match since {
        None => (None, catalogue),
        Some(since) => {
            let (changes, catalogue) = Changes::since(since.state, catalogue, &context)?;
            (Some(changes), catalogue)
        }
    };
    let squeeze: Squeeze = settings.squeeze.value.into();
    let squeezes = if arguments.every_squeeze { Squeeze::ALL.to_vec() } else { vec![squeeze] };
    // A parcel is one volume, whatever its fit.
    let fit_of_volumes = if parcels_wished { Fit::OneVolume } else { settings.fit.value.fit };
    let list = changes.as_ref().map_or(Ok(0), Changes::list_bytes).map_err(PlanError::from)?;
    let wanted: Vec<&Format> = if arguments.every_format { Format::open_and_written().collect() } else { vec![format] };
    let formats = in_open_formats(&catalogue, &wanted, squeeze, hide_names, &context)?;
    let found = catalogue.extras();
    let catalogue = catalogue.as_kept(format.abilities.hard_links, format.abilities.holes);
    let plan = Plan::make(&catalogue, &squeezes, fit_of_volumes, &context)?.with_more(list);
    let parcels = match settings.fit.value.fit.volume_limit().filter(|_| wished.delivery.shape.parcels) {
        Some(limit) => Weights::find(&catalogue, settings.squeeze.value.into(), &context)
            .and_then(|weights| weights.divide(&catalogue, limit, 0))?,
        None => Vec::new(),
    };
    drop(progress);
    let fits = match settings.fit.value.fit {
        Fit::OneVolume => named_fits(wished)?,
        _ => Vec::new(),
    };
    let line_bits_a_second = arguments.line.map(|line| line.0);
    let (settings, catalogue, plan) = (&settings, &catalogue, &plan);
    let planning = Planning {
        settings,
        catalogue,
        plan,
        fits,
        line_bits_a_second,
        formats,
        format,
        parcels,
        changes,
        typed: &arguments.typed,
        in_the_way,
        extras: found,
        replaces: wished.replace,
        lone_volumes: lone_volumes(&sources),
        room: None,
    }
    .with_room_in(folder.as_deref());
    let report = Report::new(&planning);
    show(&report, &wished.work, || lines(&planning, &report))?;
    Ok(report.exit_code)
}

/// The fits that have a name, the user's own behind the others.
fn named_fits(arguments: &PackArguments) -> Result<Vec<(String, Fit)>, Failure> {
    let configuration = Configuration::load(arguments.configuration.config.as_deref())?;
    let built_in = NAMED.iter().map(|(name, fit)| ((*name).to_owned(), *fit));
    let own = configuration.fits.iter().map(|(name, own)| (name.clone(), own.fit));
    Ok(built_in.chain(own).collect())
}

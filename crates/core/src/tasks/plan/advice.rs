//! The cheapest change that would save volumes: another squeeze, or a folder left out.

use super::{Estimate, Outline};
use crate::codecs::block::Squeeze;
use crate::formats::registry::SEALED;
use crate::ground::entry::{EntryKind, EntryPath};
use crate::ground::fit::Fit;
use crate::source::Catalogue;
use crate::tasks::pack::arranging::Outlook;
use crate::tasks::pack::kinds::KindWeight;
use std::collections::BTreeMap;

/// A change, and how many volumes there would be then.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Advice {
    /// Another squeeze.
    Squeeze(Squeeze, u32),
    /// Without this folder, which has so many bytes.
    Without(EntryPath, u64, u32),
}

/// Changes that save volumes against `usual` at this fit: a squeeze, the lightest folder that saves one, and the folder
/// that saves most without being most of it all.
pub(super) fn advice(
    catalogue: &Catalogue,
    kinds: &[KindWeight],
    estimates: &[Estimate],
    usual: Squeeze,
    fit: Fit,
) -> Vec<Advice> {
    let volumes = |bytes| Outline::new(bytes, fit, &SEALED).map(|outline| outline.volumes);
    let Some(usual) = estimates.iter().find(|estimate| estimate.squeeze == usual) else { return Vec::new() };
    let Some(now) = volumes(usual.stream_bytes.likely).filter(|now| *now > 1) else { return Vec::new() };
    let mut found = Vec::new();
    let harder = estimates.iter().filter(|estimate| estimate.squeeze.number() > usual.squeeze.number());
    found.extend(
        harder
            .filter_map(|estimate| {
                let then = volumes(estimate.stream_bytes.likely).filter(|then| *then < now)?;
                Some(Advice::Squeeze(estimate.squeeze, then))
            })
            .take(1),
    );

    let shares = Shares::new(catalogue, kinds, usual.squeeze, usual.stream_bytes.likely);
    let without: Vec<(EntryPath, u64, u32)> = shares
        .folders(catalogue)
        .into_iter()
        .filter_map(|(path, raw, packed)| {
            let then = volumes(usual.stream_bytes.likely.saturating_sub(packed)).filter(|then| *then < now)?;
            Some((path, raw, then))
        })
        .collect();
    let lightest = without.iter().min_by_key(|(_, raw, _)| *raw);
    let whole = catalogue.total_bytes();
    let most = without.iter().filter(|(_, raw, _)| *raw <= whole / 3 * 2).min_by_key(|(_, raw, then)| (*then, *raw));
    for (path, raw, then) in lightest.into_iter().chain(most) {
        let advice = Advice::Without(path.clone(), *raw, *then);
        if !found.contains(&advice) {
            found.push(advice);
        }
    }
    found
}

/// What each byte of a kind comes to when packed, so that all together come to the estimate.
struct Shares<'a> {
    outlook: Outlook<'a>,
    scale: f64,
}

impl<'a> Shares<'a> {
    fn new(catalogue: &Catalogue, kinds: &'a [KindWeight], squeeze: Squeeze, packed: u64) -> Self {
        let mut all = Self { outlook: Outlook::new(squeeze, kinds), scale: 1.0 };
        let sum: f64 = catalogue.entries.iter().map(|entry| all.packed(&entry.path, entry.stored_bytes())).sum();
        all.scale = if sum > 0.0 { packed as f64 / sum } else { 1.0 };
        all
    }

    fn packed(&self, path: &EntryPath, size: u64) -> f64 {
        size as f64 * self.outlook.kept(path) * self.scale
    }

    /// Every folder but those at the top, with what lies below it: bytes, and bytes when packed.
    fn folders(&self, catalogue: &Catalogue) -> Vec<(EntryPath, u64, u64)> {
        let mut sums: BTreeMap<EntryPath, (u64, f64)> = BTreeMap::new();
        for entry in catalogue.entries.iter().filter(|entry| entry.kind == EntryKind::File) {
            let packed = self.packed(&entry.path, entry.stored_bytes());
            for path in entry.path.folders_above() {
                if path.parent().is_some() || catalogue.has_several_tops() {
                    let sum = sums.entry(path).or_default();
                    *sum = (sum.0 + entry.own_bytes(), sum.1 + packed);
                }
            }
        }
        sums.into_iter().map(|(path, (raw, packed))| (path, raw, packed as u64)).collect()
    }
}

//! The steps of a study: what reads from the store and files, computes with the core, and writes
//! back. Jobs run here, in the server or in any worker process.

mod backdrops;
mod catchment;
mod choices;
mod edits;
mod error;
mod evidence;
mod facts;
mod fetch;
mod findings;
mod grids;
mod import;
mod kept_forms;
mod layer_cache;
mod layers;
mod package;
mod prepare;
mod preparing;
mod review;
mod route;
mod section;
mod settings;
mod shortfalls;
mod sources;
mod threshold;
mod trials;
mod wanted;
mod weights;

pub use backdrops::{
    NewPicture, PicturePlace, add_backdrop, laid_backdrop, place_backdrop, put_backdrop_back,
};
pub use catchment::{CatchmentFacts, PourPointPlace, place_pour_point};
pub use choices::{Choices, conditioning_key, conditioning_key_of};
pub use edits::{StreamEdit, edit_streams};
pub use error::{Error, Result};
pub use evidence::{Calibration, Evidence, PLACES, set_tolerance, tolerance_m};
pub use facts::{
    ConditionedFacts, Facts, NetworkFacts, PlacedSeam, Provenance, ReviewFacts, RoutingFacts, Settings,
    SourceFacts, SourceFile, TerrainFacts,
};
pub use fetch::{Boundary, Fetch, FetchPlan, begin_from_boundary, fetch_again, fetch_candidate, plan_fetch};
pub use findings::{Action, Finding, Severity, findings};
pub use grids::{GridCache, Grids, Index, Streams, Ways};
pub use import::{NewStudy, begin_candidate, begin_study, choose_band, set_crs, set_vertical_unit, take_up};
pub use layer_cache::{LayerCache, SeenLayer};
pub use layers::{AddedLayer, NewLayer, add_layer, add_layer_or_queue, layer_features, layer_shapes};
pub use package::package_name;
pub use prepare::prepare;
pub use preparing::{Alignment, Clip, PreparedPlace, Preparing};
pub use review::{BarrierFacts, Decision, Profile, profile_along};
pub use section::{Section, SectionPlace, burn_across, section_across};
pub use settings::{change_settings, put_back_settings};
pub use shortfalls::{ShortfallMark, Verdict, mark_shortfall};
pub use sources::{
    NewDemFile, add_dem_files, level_dem_files, move_dem_file, remove_dem_file, restore_source,
    set_provenance,
};
pub use threshold::set_threshold;
pub use trials::{KeptTrial, TrialFacts, TrialLine, choose_trial, chosen_trial, keep_trial, trials};
pub use weights::{WeightFacts, remove_weights, set_weights};

use bothros_store::{Job, JobHandle, JobKind, Outcome, Store};

/// Does a job, whatever it is.
pub async fn work(store: Store, grids: GridCache, job: Job, handle: JobHandle) -> Outcome {
    let done = match JobKind::from_name(&job.kind) {
        Some(JobKind::Fetch) => fetch::run(&store, job.study_id, &job.parameters, &handle).await,
        Some(JobKind::Import) => import::run(&store, job.study_id, &job.parameters, &handle).await,
        Some(JobKind::Prepare) => prepare::run(&store, job.study_id, &job.parameters, &handle).await,
        Some(JobKind::Layer) => layers::run(&store, job.study_id, &job.parameters, &handle).await,
        Some(JobKind::Review) => review::run(&store, job.study_id, &handle).await,
        Some(JobKind::Route) => route::run(&store, &grids, job.study_id, &handle).await,
        Some(JobKind::Package) => package::run(&store, &grids, job.study_id, &handle).await,
        None => Err(Error::Refused(format!("this version does not know the job “{}”", job.kind))),
    };
    match done {
        Ok(message) => Outcome::Done(message),
        Err(error) if error.is_cancelled() || bothros_core::Monitor::is_cancelled(&handle) => {
            Outcome::Cancelled
        }
        Err(error) => Outcome::Failed(error.to_string()),
    }
}

/// Runs work that keeps a processor busy, away from the threads that answer requests; for a job, at the priority of
/// jobs.
pub async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    let for_job = bothros_store::background::in_job();
    let run = move || bothros_store::background::compute(for_job, work);
    tokio::task::spawn_blocking(run).await.map_err(|e| Error::Io(std::io::Error::other(e)))?
}

//! The calls of the API, a file for each subject.

pub(crate) mod accounts;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod audit;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod clears;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod configuration;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod door;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod dues;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod entries;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod events;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod gates;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod lookouts;
pub(crate) mod offers;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod outputs;
pub(crate) mod people;
pub(crate) mod places;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod reports;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod search;
pub(crate) mod service;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod session;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod tells;

mod upload_headers;

use actix_web::web;

/// Gives a macro all calls of the API: the one list from which they are served and
/// described. What is not in it is neither.
macro_rules! all_calls {
    ($to:ident) => {
        $to! {
            gates::all,
            gates::one,
            gates::files,
            gates::all_files,
            gates::rehearsal,
            gates::matches,
            gates::pass,
            gates::pause,
            gates::resume,
            entries::entries,
            entries::all_entries,
            entries::entries_as_csv,
            entries::count,
            people::actions,
            people::adopt,
            people::trim,
            clears::rules,
            clears::clear,
            clears::removals,
            dues::dues,
            dues::due_cells,
            dues::count_due,
            dues::excuse,
            dues::learned_due,
            dues::board,
            reports::report,
            places::places,
            places::place_files,
            lookouts::lookouts,
            lookouts::lookout_events,
            lookouts::take_as_right,
            tells::tells,
            tells::test_tell,
            tells::messages,
            door::hand_in,
            door::go_on,
            door::how_far,
            door::uploaded,
            door::end_upload,
            offers::take,
            offers::file,
            offers::prolong,
            offers::end,
            entries::entry,
            entries::why,
            search::search,
            entries::loaded_rows,
            entries::content,
            entries::excerpt,
            entries::held,
            entries::sample,
            outputs::outputs,
            outputs::all_outputs,
            outputs::output_file,
            outputs::family,
            events::activity,
            events::changes,
            events::events,
            session::session,
            session::sign_in,
            session::sign_out,
            session::sessions,
            session::end_session,
            accounts::users,
            accounts::add_user,
            accounts::set_role,
            accounts::set_password,
            accounts::remove_user,
            accounts::tokens,
            accounts::make_token,
            accounts::revoke_token,
            audit::audit_lines,
            audit::audit_proof,
            configuration::configuration,
            configuration::config_keys,
            configuration::try_config,
            configuration::folders,
            configuration::propose_gate,
            configuration::draft_gate,
            configuration::save_config,
            configuration::config_changes,
            configuration::config_change,
            service::about,
            service::reload,
            service::description,
            service::healthz,
            service::readyz,
            service::metrics,
        }
    };
}
pub(crate) use all_calls;

/// Where each call is found.
pub(crate) fn routes(config: &mut web::ServiceConfig) {
    macro_rules! serve {
        ($($room:ident::$call:ident,)*) => {
            config$(.service($room::$call))*
        };
    }
    all_calls!(serve);
}

//! The same seal as rules of Landlock (landlock(7)).

use std::os::fd::OwnedFd;
use std::path::Path;

use landlock::ABI;
use landlock::Access;
use landlock::AccessFs;
use landlock::AccessNet;
use landlock::BitFlags;
use landlock::CompatLevel;
use landlock::Compatible;
use landlock::PathBeneath;
use landlock::PathFd;
use landlock::Ruleset;
use landlock::RulesetAttr;
use landlock::RulesetCreated;
use landlock::RulesetCreatedAttr;
use landlock::RulesetError;

use crate::executor::sealing::policy::SealPolicy;

/// The newest rights that are asked for; an older system does without some.
const NEWEST: ABI = ABI::V5;

/// Makes the rules; the descriptor that a process restricts itself with.
///
/// # Errors
/// What the system can't do, in words.
pub fn ruleset(policy: &SealPolicy) -> Result<OwnedFd, String> {
    let wrong = |error: RulesetError| {
        format!(
            "this system does not let it be sealed: {error}; Linux 5.13 or newer with Landlock is needed"
        )
    };
    let created = rules(policy).map_err(wrong)?;
    Option::<OwnedFd>::from(created).ok_or_else(|| {
        "this system does not let it be sealed: Linux 5.13 or newer with Landlock is needed"
            .to_owned()
    })
}

fn rules(policy: &SealPolicy) -> Result<RulesetCreated, RulesetError> {
    let created = Ruleset::default()
        .set_compatibility(CompatLevel::HardRequirement)
        .handle_access(AccessFs::from_all(ABI::V1))?
        .set_compatibility(CompatLevel::BestEffort)
        .handle_access(AccessFs::from_all(NEWEST))?
        .handle_access(AccessNet::BindTcp | AccessNet::ConnectTcp)?
        .create()?;
    let all = AccessFs::from_all(NEWEST);
    // Which names are asked for is for the watch to say; here a folder can be entered.
    let mut created = beneath(created, policy.root(), AccessFs::ReadDir.into())?;
    for path in policy.readable() {
        created = beneath(created, path, AccessFs::from_read(NEWEST))?;
    }
    for path in policy.writable() {
        created = beneath(created, path, all)?;
    }
    for path in SealPolicy::writable_outside() {
        let rights = AccessFs::from_read(NEWEST)
            | AccessFs::WriteFile
            | AccessFs::Truncate
            | AccessFs::IoctlDev;
        created = beneath(created, path, rights)?;
    }
    Ok(created)
}

/// Adds what may be done below a path; nothing for one that is not there.
fn beneath(
    created: RulesetCreated,
    path: &Path,
    rights: BitFlags<AccessFs>,
) -> Result<RulesetCreated, RulesetError> {
    let Ok(opened) = PathFd::new(path) else {
        return Ok(created);
    };
    let rights = if path.is_dir() {
        rights
    } else {
        rights & AccessFs::from_file(NEWEST)
    };
    created.add_rule(PathBeneath::new(opened, rights))
}

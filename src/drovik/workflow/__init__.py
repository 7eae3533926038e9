"""What the commands and Python users call: reading a project, planning, sending, asking, evaluating. Nothing prints.

What is behind is loaded at its first use, so that `drovik --help` needs none of it. Commands take their work from
here alone (tests/test_architecture.py).
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from drovik.comparing.against import ASIDE, set_against
    from drovik.comparing.baseline import baseline_sample, baseline_text
    from drovik.comparing.cascades import cascade_point, cascades_of, chosen_point, votes_of
    from drovik.comparing.case_plan import label_rows, plan_by_answers, plan_cases, plan_text
    from drovik.comparing.controls import control_text
    from drovik.comparing.effects import effects_of, interaction_text, missing_text
    from drovik.comparing.frontier import amount_interval, choice_text, frontier_of, money_of
    from drovik.comparing.gates import BASELINE, judge_must, not_known_worse, read_must
    from drovik.comparing.halving import search_round
    from drovik.comparing.held_out import look_text, split_scores
    from drovik.comparing.judge_agreement import agreement_text
    from drovik.comparing.margin import margin_list, margin_text
    from drovik.comparing.people import agreement_of_measures, agreement_of_people
    from drovik.comparing.preferences import pair_preferences, preferences_document, strengths
    from drovik.comparing.prompt_verdicts import prompt_verdicts
    from drovik.comparing.ranking import flattery_text, headline_verdicts, next_step, rank, ranking_text
    from drovik.comparing.strata import (
        compare_by,
        compare_by_measure,
        levels_text,
        scores_by,
        scores_by_measure,
        strata_text,
    )
    from drovik.comparing.verdict import (
        bounds_sentence,
        compare_arms,
        estimate,
        estimate_as_read,
        estimate_figures,
        more_cases_text,
        verdict_details,
        verdict_line,
        verdict_text,
        with_interval,
    )
    from drovik.dialects.learn.learned_files import changed_by_hand, free_model_name, models_of
    from drovik.dialects.learn.sample_dialect import USUAL_KEY_HEADER, dialect_there, files_of, learn, write_learned
    from drovik.dialects.learn.sample_files import SampleFiles
    from drovik.dialects.learn.samples import read_reply, read_sample
    from drovik.dialects.request import RequestWriter
    from drovik.evaluation.case_columns import levels_of
    from drovik.evaluation.choices import choices_of
    from drovik.evaluation.constant_scores import constant_scores
    from drovik.evaluation.drift import drift_of
    from drovik.evaluation.gathering import gather
    from drovik.evaluation.judgements import todays_judgements
    from drovik.evaluation.periods import change_between, change_text
    from drovik.evaluation.prompt_draft import draft_prompt, draft_text
    from drovik.evaluation.prompt_versions import (
        PromptVersion,
        difference_of_prompts,
        dropped_sentences,
        prompt_versions,
        sentences,
    )
    from drovik.evaluation.suspects import contradictions, impacts_of, near_duplicates, suspects_of
    from drovik.images.decode.formats import inspect_source
    from drovik.images.prepare import prepare, thumbnail
    from drovik.parsing.answer_text import Answer, Reader
    from drovik.parsing.status import STATUSES, Status
    from drovik.planning.answers import answers_for, pictures_sent
    from drovik.planning.control_kinds import CONTROLS
    from drovik.planning.rendering import conversation_of
    from drovik.planning.sources import AdhocQuestion, adhoc_project
    from drovik.planning.splits import held_out_cases
    from drovik.project.arms import digest
    from drovik.project.case_writing import write_region, write_split
    from drovik.project.cases import PICTURE_ENDINGS, Case, Picture, prep_for
    from drovik.project.examples import read_examples, values_of_file
    from drovik.project.file_schemas import FILES, file_schema
    from drovik.project.file_states import state_of_input
    from drovik.project.keys import keep_in_keyring, shown_key
    from drovik.project.models import Name
    from drovik.project.outside import outside_answers, unknown_cases, write_outside
    from drovik.project.reading import StorePlace, store_place
    from drovik.project.reviews import TRUTHS, VERDICTS, Verdict
    from drovik.project.schema_inference import infer_schema, is_schema, member_of, schema_text
    from drovik.project.schema_words import all_required, example_of, in_words
    from drovik.project.schemas import check_schema
    from drovik.project.settings import ProjectFile, read_settings
    from drovik.project.spending import Spending
    from drovik.scoring.agreement import agreement, agreement_of_answers, comparable
    from drovik.scoring.json_pointer import ABSENT
    from drovik.scoring.measure import expected_at
    from drovik.store.answer_store import Store
    from drovik.store.copying import check_database, copy_store
    from drovik.store.database_of_team import agree_to_store
    from drovik.store.repair import check_store, repair_store
    from drovik.text import percent
    from drovik.transport.http import NoReply
    from drovik.transport.local_service import ServicePlace, local_service
    from drovik.transport.outcomes import REMEDIES, remedy_of
    from drovik.transport.session import EndpointSession
    from drovik.workflow.asking import (
        AdhocAnswer,
        AskResult,
        ask_adhoc,
        chosen_models,
        failure_of,
        prep_of,
        question_with,
        require_slots,
        settings_for,
        wants_bytes,
        with_id,
    )
    from drovik.workflow.bundle import write_bundle
    from drovik.workflow.case_import import import_cases
    from drovik.workflow.clusters import judges_on, sending_from
    from drovik.workflow.cropping import cropped, crops_into_cases, read_box
    from drovik.workflow.endpoint_trial import Trial, ask_both, try_endpoint
    from drovik.workflow.estimating import (
        SendingEstimate,
        brought_costs,
        estimate_sending,
        estimates_and_bills,
        keep_estimate,
    )
    from drovik.workflow.export_tables import EXPORTS, tables_to_export
    from drovik.workflow.field_schemas import schema_of_fields
    from drovik.workflow.filling import Journal, says_of
    from drovik.workflow.fitness import fitness_of
    from drovik.workflow.kept_outputs import OutputKeeper
    from drovik.workflow.model_list import list_models
    from drovik.workflow.new_project import make_project
    from drovik.workflow.open_project import dispatcher_for
    from drovik.workflow.person_table import PersonTable, exploded, write_rows
    from drovik.workflow.picture_arguments import CommandWords, NamedPicture, fetched, named_pictures, sort_words
    from drovik.workflow.pictures import (
        PictureFile,
        SourcePicture,
        chosen_preps,
        counting_models,
        file_record,
        inspect_pictures,
        picture_record,
        sent_boxes,
        sources,
        tokens_and_money,
    )
    from drovik.workflow.project_checks import (
        draft_for,
        everything_wrong,
        missing_expected,
        unmeasured_tasks,
        unmeasured_text,
    )
    from drovik.workflow.prompt_writer import PromptWriting, plan_writing
    from drovik.workflow.request_code import code_of
    from drovik.workflow.review_service import served_review
    from drovik.workflow.reviewing import ReviewMode, ReviewSession, review_picture, reviewer_name, unchanged_share
    from drovik.workflow.running import send
    from drovik.workflow.saved_project import SavedProject, require_storable, save_project
    from drovik.workflow.sending_plan import (
        Planned,
        Selection,
        check_project,
        load_project,
        make_plan,
        nothing_sent,
    )
    from drovik.workflow.sent_pictures import write_sent_pictures
    from drovik.workflow.services import (
        USERS,
        Services,
        all_services,
        amounts,
        budget_for,
        concurrency_bound,
        paid_in,
        require_agreed_addresses,
        require_agreed_folders,
        require_sendable,
        services_at,
        users_folder,
    )
    from drovik.workflow.wire_parts import sent_parts

__all__ = [
    "ABSENT",
    "ASIDE",
    "BASELINE",
    "CONTROLS",
    "EXPORTS",
    "FILES",
    "PICTURE_ENDINGS",
    "REMEDIES",
    "STATUSES",
    "TRUTHS",
    "USERS",
    "USUAL_KEY_HEADER",
    "VERDICTS",
    "AdhocAnswer",
    "AdhocQuestion",
    "Answer",
    "AskResult",
    "Case",
    "CommandWords",
    "EndpointSession",
    "Journal",
    "Name",
    "NamedPicture",
    "NoReply",
    "OutputKeeper",
    "PersonTable",
    "Picture",
    "PictureFile",
    "Planned",
    "ProjectFile",
    "PromptVersion",
    "PromptWriting",
    "Reader",
    "RequestWriter",
    "ReviewMode",
    "ReviewSession",
    "SampleFiles",
    "SavedProject",
    "Selection",
    "SendingEstimate",
    "ServicePlace",
    "Services",
    "SourcePicture",
    "Spending",
    "Status",
    "Store",
    "StorePlace",
    "Trial",
    "Verdict",
    "adhoc_project",
    "agree_to_store",
    "agreement",
    "agreement_of_answers",
    "agreement_of_measures",
    "agreement_of_people",
    "agreement_text",
    "all_required",
    "all_services",
    "amount_interval",
    "amounts",
    "answers_for",
    "ask_adhoc",
    "ask_both",
    "baseline_sample",
    "baseline_text",
    "bounds_sentence",
    "brought_costs",
    "budget_for",
    "cascade_point",
    "cascades_of",
    "change_between",
    "change_text",
    "changed_by_hand",
    "check_database",
    "check_project",
    "check_schema",
    "check_store",
    "choice_text",
    "choices_of",
    "chosen_models",
    "chosen_point",
    "chosen_preps",
    "code_of",
    "comparable",
    "compare_arms",
    "compare_by",
    "compare_by_measure",
    "concurrency_bound",
    "constant_scores",
    "contradictions",
    "control_text",
    "conversation_of",
    "copy_store",
    "counting_models",
    "cropped",
    "crops_into_cases",
    "dialect_there",
    "difference_of_prompts",
    "digest",
    "dispatcher_for",
    "draft_for",
    "draft_prompt",
    "draft_text",
    "drift_of",
    "dropped_sentences",
    "effects_of",
    "estimate",
    "estimate_as_read",
    "estimate_figures",
    "estimate_sending",
    "estimates_and_bills",
    "everything_wrong",
    "example_of",
    "expected_at",
    "exploded",
    "failure_of",
    "fetched",
    "file_record",
    "file_schema",
    "files_of",
    "fitness_of",
    "flattery_text",
    "free_model_name",
    "frontier_of",
    "gather",
    "headline_verdicts",
    "held_out_cases",
    "impacts_of",
    "import_cases",
    "in_words",
    "infer_schema",
    "inspect_pictures",
    "inspect_source",
    "interaction_text",
    "is_schema",
    "judge_must",
    "judges_on",
    "keep_estimate",
    "keep_in_keyring",
    "label_rows",
    "learn",
    "levels_of",
    "levels_text",
    "list_models",
    "load_project",
    "local_service",
    "look_text",
    "make_plan",
    "make_project",
    "margin_list",
    "margin_text",
    "member_of",
    "missing_expected",
    "missing_text",
    "models_of",
    "money_of",
    "more_cases_text",
    "named_pictures",
    "near_duplicates",
    "next_step",
    "not_known_worse",
    "nothing_sent",
    "outside_answers",
    "paid_in",
    "pair_preferences",
    "percent",
    "picture_record",
    "pictures_sent",
    "plan_by_answers",
    "plan_cases",
    "plan_text",
    "plan_writing",
    "preferences_document",
    "prep_for",
    "prep_of",
    "prepare",
    "prompt_verdicts",
    "prompt_versions",
    "question_with",
    "rank",
    "ranking_text",
    "read_box",
    "read_examples",
    "read_must",
    "read_reply",
    "read_sample",
    "read_settings",
    "remedy_of",
    "repair_store",
    "require_agreed_addresses",
    "require_agreed_folders",
    "require_sendable",
    "require_slots",
    "require_storable",
    "review_picture",
    "reviewer_name",
    "save_project",
    "says_of",
    "schema_of_fields",
    "schema_text",
    "scores_by",
    "scores_by_measure",
    "search_round",
    "send",
    "sending_from",
    "sent_boxes",
    "sent_parts",
    "sentences",
    "served_review",
    "services_at",
    "set_against",
    "settings_for",
    "shown_key",
    "sort_words",
    "sources",
    "split_scores",
    "state_of_input",
    "store_place",
    "strata_text",
    "strengths",
    "suspects_of",
    "tables_to_export",
    "thumbnail",
    "todays_judgements",
    "tokens_and_money",
    "try_endpoint",
    "unchanged_share",
    "unknown_cases",
    "unmeasured_tasks",
    "unmeasured_text",
    "users_folder",
    "values_of_file",
    "verdict_details",
    "verdict_line",
    "verdict_text",
    "votes_of",
    "wants_bytes",
    "with_id",
    "with_interval",
    "write_bundle",
    "write_learned",
    "write_outside",
    "write_region",
    "write_rows",
    "write_sent_pictures",
    "write_split",
]

_NAMES_OF = {
    "comparing.against": "ASIDE set_against",
    "comparing.baseline": "baseline_sample baseline_text",
    "comparing.cascades": "cascade_point cascades_of chosen_point votes_of",
    "comparing.case_plan": "label_rows plan_by_answers plan_cases plan_text",
    "comparing.controls": "control_text",
    "comparing.effects": "effects_of interaction_text missing_text",
    "comparing.frontier": "amount_interval choice_text frontier_of money_of",
    "comparing.gates": "BASELINE judge_must not_known_worse read_must",
    "comparing.halving": "search_round",
    "comparing.held_out": "look_text split_scores",
    "comparing.judge_agreement": "agreement_text",
    "comparing.margin": "margin_list margin_text",
    "comparing.people": "agreement_of_measures agreement_of_people",
    "comparing.preferences": "pair_preferences preferences_document strengths",
    "comparing.prompt_verdicts": "prompt_verdicts",
    "comparing.ranking": "flattery_text headline_verdicts next_step rank ranking_text",
    "comparing.strata": "compare_by compare_by_measure levels_text scores_by scores_by_measure strata_text",
    "comparing.verdict": (
        "bounds_sentence compare_arms estimate estimate_as_read estimate_figures more_cases_text "
        "verdict_details verdict_line verdict_text with_interval"
    ),
    "dialects.learn.learned_files": "changed_by_hand free_model_name models_of",
    "dialects.learn.sample_dialect": "USUAL_KEY_HEADER dialect_there files_of learn write_learned",
    "dialects.learn.sample_files": "SampleFiles",
    "dialects.learn.samples": "read_reply read_sample",
    "dialects.request": "RequestWriter",
    "evaluation.case_columns": "levels_of",
    "evaluation.choices": "choices_of",
    "evaluation.constant_scores": "constant_scores",
    "evaluation.drift": "drift_of",
    "evaluation.gathering": "gather",
    "evaluation.judgements": "todays_judgements",
    "evaluation.periods": "change_between change_text",
    "evaluation.prompt_draft": "draft_prompt draft_text",
    "evaluation.prompt_versions": "PromptVersion difference_of_prompts dropped_sentences prompt_versions sentences",
    "evaluation.suspects": "contradictions impacts_of near_duplicates suspects_of",
    "images.decode.formats": "inspect_source",
    "images.prepare": "prepare thumbnail",
    "parsing.answer_text": "Answer Reader",
    "parsing.status": "STATUSES Status",
    "planning.answers": "answers_for pictures_sent",
    "planning.control_kinds": "CONTROLS",
    "planning.rendering": "conversation_of",
    "planning.sources": "AdhocQuestion adhoc_project",
    "planning.splits": "held_out_cases",
    "project.arms": "digest",
    "project.case_writing": "write_region write_split",
    "project.cases": "Case PICTURE_ENDINGS Picture prep_for",
    "project.examples": "read_examples values_of_file",
    "project.file_schemas": "FILES file_schema",
    "project.file_states": "state_of_input",
    "project.keys": "keep_in_keyring shown_key",
    "project.models": "Name",
    "project.outside": "outside_answers unknown_cases write_outside",
    "project.reading": "StorePlace store_place",
    "project.reviews": "TRUTHS VERDICTS Verdict",
    "project.schema_inference": "infer_schema is_schema member_of schema_text",
    "project.schema_words": "all_required example_of in_words",
    "project.schemas": "check_schema",
    "project.settings": "ProjectFile read_settings",
    "project.spending": "Spending",
    "scoring.agreement": "agreement agreement_of_answers comparable",
    "scoring.json_pointer": "ABSENT",
    "scoring.measure": "expected_at",
    "store.answer_store": "Store",
    "store.copying": "check_database copy_store",
    "store.database_of_team": "agree_to_store",
    "store.repair": "check_store repair_store",
    "text": "percent",
    "transport.http": "NoReply",
    "transport.local_service": "ServicePlace local_service",
    "transport.outcomes": "REMEDIES remedy_of",
    "transport.session": "EndpointSession",
    "workflow.asking": (
        "AdhocAnswer AskResult ask_adhoc chosen_models failure_of prep_of "
        "question_with require_slots settings_for wants_bytes with_id"
    ),
    "workflow.bundle": "write_bundle",
    "workflow.case_import": "import_cases",
    "workflow.cropping": "cropped crops_into_cases read_box",
    "workflow.endpoint_trial": "Trial ask_both try_endpoint",
    "workflow.estimating": "SendingEstimate brought_costs estimate_sending estimates_and_bills keep_estimate",
    "workflow.export_tables": "EXPORTS tables_to_export",
    "workflow.field_schemas": "schema_of_fields",
    "workflow.filling": "Journal says_of",
    "workflow.fitness": "fitness_of",
    "workflow.kept_outputs": "OutputKeeper",
    "workflow.model_list": "list_models",
    "workflow.new_project": "make_project",
    "workflow.clusters": "judges_on sending_from",
    "workflow.open_project": "dispatcher_for",
    "workflow.person_table": "PersonTable exploded write_rows",
    "workflow.picture_arguments": "CommandWords NamedPicture fetched named_pictures sort_words",
    "workflow.pictures": (
        "PictureFile SourcePicture chosen_preps counting_models file_record inspect_pictures "
        "picture_record sent_boxes sources tokens_and_money"
    ),
    "workflow.project_checks": "draft_for everything_wrong missing_expected unmeasured_tasks unmeasured_text",
    "workflow.prompt_writer": "PromptWriting plan_writing",
    "workflow.request_code": "code_of",
    "workflow.review_service": "served_review",
    "workflow.reviewing": "ReviewMode ReviewSession review_picture reviewer_name unchanged_share",
    "workflow.running": "send",
    "workflow.saved_project": "SavedProject require_storable save_project",
    "workflow.sending_plan": "Planned Selection check_project load_project make_plan nothing_sent",
    "workflow.sent_pictures": "write_sent_pictures",
    "workflow.services": (
        "Services USERS all_services amounts budget_for concurrency_bound "
        "paid_in require_agreed_addresses require_agreed_folders require_sendable services_at users_folder"
    ),
    "workflow.wire_parts": "sent_parts",
}
"""Where each name is, by the module."""
_MODULE_OF = {name: module for module, names in _NAMES_OF.items() for name in names.split()}


def __getattr__(name: str) -> Any:
    if name not in _MODULE_OF:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f"drovik.{_MODULE_OF[name]}"), name)

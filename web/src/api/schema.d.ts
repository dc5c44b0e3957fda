// Made by `make types`. Do not change it.
export interface paths {
    "/api/v1/ask": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Answer a question in words: who may reach whom, and why */
        get: operations["ask"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/assertions": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The assertions with their results */
        get: operations["list-assertions"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/assertions.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The assertions with their results as CSV */
        get: operations["export-assertions"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/assertions/fix": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Rules that would make an assertion hold */
        get: operations["read-assertion-fix"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/assertions/try": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Prove a statement without storing it */
        post: operations["try-assertion"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/check": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The verdicts of the window, compared with a revision */
        get: operations["check-window"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/check/parts": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Verdict counts for the window, grouped by dimension */
        get: operations["list-check-parts"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/company": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The name of the estate, and whether it is the made-up company */
        get: operations["read-company"];
        /** Name the estate */
        put: operations["rename-company"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/company/made-up": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Load a made-up company into an empty estate */
        post: operations["load-made-up-company"];
        /** Delete the made-up company with all that was derived from it */
        delete: operations["remove-made-up-company"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/conversations": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The selected conversations */
        get: operations["list-conversations"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/conversations.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The selected conversations with their verdicts as CSV */
        get: operations["export-conversations"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/conversations.jsonl": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The selected conversations as JSON Lines */
        get: operations["export-conversation-lines"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/conversations/hours": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The hours of a conversation */
        get: operations["list-conversation-hours"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/derive": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Derive proposals from the conversations of the window */
        post: operations["derive"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/disagreements": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Tags on which sources disagree */
        get: operations["list-disagreements"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/disagreements.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The disagreements of sources as CSV */
        get: operations["export-disagreements"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/estate": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Restore an export where there is nothing yet */
        post: operations["restore-estate"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/estate.jsonl": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The whole estate but for its conversations, as JSON Lines; see docs/estate.md */
        get: operations["export-estate"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/evidence": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Evidence that was made, the newest first */
        get: operations["list-evidence-made"];
        put?: never;
        /** Make evidence for a promise over a period */
        post: operations["make-evidence"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/evidence-schedules": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Evidence that is made by itself */
        get: operations["list-evidence-schedules"];
        put?: never;
        /** Let evidence be made by itself */
        post: operations["add-evidence-schedule"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/evidence-schedules/{id}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        post?: never;
        /** Make it no more by itself; what was made stays */
        delete: operations["drop-evidence-schedule"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/evidence/comparison": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** How two periods differ */
        get: operations["compare-evidence"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/evidence/promises": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What evidence can be made for, and the key that signs it */
        get: operations["read-evidence-promises"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/evidence/{id}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Evidence */
        get: operations["read-evidence"];
        put?: never;
        post?: never;
        /** Forget evidence */
        delete: operations["drop-evidence"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/evidence/{id}/inputs/{name}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The lines of an input of evidence, made again from what is on record now */
        get: operations["read-evidence-input"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/evidence/{id}/pdf": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Evidence as PDF, printed by a browser on the server */
        get: operations["print-evidence"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/evidence/{id}/signed": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Evidence as signed JSON */
        get: operations["download-evidence"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/exemptions": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Exempt workloads, those that end first at the top */
        get: operations["list-exemptions"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/exemptions/{id}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /** Exempt a workload from all points until a day */
        put: operations["exempt-workload"];
        post?: never;
        /** Let points guard a workload again */
        delete: operations["end-exemption"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/exporters": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The exporters and collectors with what they send */
        get: operations["list-exporters"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/exporters/{addr}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        post?: never;
        /** Delete an exporter that no longer sends */
        delete: operations["forget-exporter"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/exporters/{addr}/icmp": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /** Say where an exporter writes the types of ICMP messages */
        put: operations["say-exporter-habit"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/figures": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What each rule and each group decides in the window */
        get: operations["read-figures"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/figures/groups.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The figures of the groups as CSV */
        get: operations["export-group-figures"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/figures/rules.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The figures of the rules as CSV */
        get: operations["export-rule-figures"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/findings": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The findings on the policy and its evidence */
        get: operations["list-findings"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/findings.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The findings as CSV */
        get: operations["export-findings"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/flows/map": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Who talks to whom, between tiers, environments or groups */
        get: operations["read-terrace-map"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/flows/strip": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Connections of each hour, for the strip of the window */
        get: operations["read-strip"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/groups": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The groups with their members by number */
        get: operations["list-groups"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/groups.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The groups as CSV */
        get: operations["export-groups"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/groups/history": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Who joined and left a group over the window, and why */
        get: operations["read-group-history"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/groups/members": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Who is in, out of, and undecided for a group */
        get: operations["list-members"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/groups/members.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The members of a group as CSV */
        get: operations["export-members"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/groups/preview": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Who is in, out and undecided, and what a change of the expression would change */
        post: operations["preview-group"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/groups/remove": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Remove a group, with all that needs it */
        post: operations["remove-group"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/groups/rename": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Rename a group, with all that names it */
        post: operations["rename-group"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/groups/use": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Where a group is used, and by what traffic */
        get: operations["read-group-use"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/imports/flows": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Import flows from CSV, JSON Lines, an IPFIX file, or a packet capture */
        post: operations["import-flows"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/imports/workloads": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Import workloads from CSV */
        post: operations["import-workloads"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/inventory/workloads": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /**
         * Store the list of a source; for scripts, with a token
         * @description The body is JSON ({"workloads": […]}), JSON Lines (application/x-ndjson) or CSV (text/csv). The same listing twice changes nothing.
         */
        post: operations["take-listing"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/jobs": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Long work, the newest first; without results */
        get: operations["list-jobs"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/jobs/{id}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** One piece of long work, with its result */
        get: operations["read-job"];
        put?: never;
        post?: never;
        /** Stop long work */
        delete: operations["cancel-job"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/ledger": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The rows of the reach ledger */
        get: operations["list-ledger-rows"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/ledger.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The rows of the ledger as CSV */
        get: operations["export-ledger"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/ledger/callers": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The callers in a row of the ledger */
        get: operations["list-ledger-callers"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/misspellings.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The values that look misspelt as CSV */
        get: operations["export-misspellings"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/pipeline/releases": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** With a token that may release: save a policy as the draft and release it */
        post: operations["release-policy"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/pipeline/releases/{no}/follow": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** With a token that may release: take the next step of its roll-out, if it may be taken, and say how far it has come */
        post: operations["follow-release"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/point/file": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** For devices, with their token: the plan as a file */
        get: operations["fetch-device-file"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/point/groups/{name}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** For devices, with their token: the members of a group, a prefix in each line */
        get: operations["fetch-device-group"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/point/said": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** For points, with their token: report what they run */
        post: operations["say-held"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/point/seen": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** For points, with their token: conversations that they rejected or left uncovered, as IPFIX messages */
        post: operations["say-seen"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/point/told": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** For points, with their token: the plan, as soon as it changes */
        get: operations["read-told"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Create an enforcement point; its token is shown only once */
        post: operations["add-point"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points/guarded": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The workloads that an expression would guard */
        get: operations["preview-guards"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points/{name}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        post?: never;
        /** Delete an enforcement point */
        delete: operations["drop-point"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points/{name}/again": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Make a point load its plan again */
        post: operations["tell-point-again"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points/{name}/follow": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Let a point that took an order which this server lacks follow it */
        post: operations["let-point-follow"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points/{name}/history": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What happened at a point, newest first */
        get: operations["read-point-history"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points/{name}/plan": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The plan of a point as text */
        get: operations["read-point-plan"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points/{name}/running": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Compare the pasted configuration of a device with its plan */
        post: operations["compare-running"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/points/{name}/token": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Replace a point's token; the former one is valid until the new one is used */
        post: operations["rotate-point-token"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The policy document, with who wrote each line and what it decides */
        get: operations["read-policy"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy.orchard": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The policy text */
        get: operations["export-policy"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy/edits": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Add, change, remove, move or switch off a statement */
        post: operations["edit-policy"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy/fix": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Apply the fix of a finding */
        post: operations["fix-finding"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy/redo": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Redo the change that was undone last */
        post: operations["redo"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy/revisions": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The revisions of the policy, the newest first */
        get: operations["list-revisions"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy/revisions/{no}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** One revision of the policy */
        get: operations["read-revision"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy/revisions/{no}/difference": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Compare a revision with the draft or another revision */
        get: operations["read-difference"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy/revisions/{no}/restore": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Return to a revision: its text becomes the newest */
        post: operations["restore-revision"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy/text": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /** Replace the whole policy text */
        put: operations["replace-policy"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/policy/undo": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Undo the newest change */
        post: operations["undo"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/probes": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The probes with what is answered now */
        get: operations["list-probes"];
        put?: never;
        /** Save questions with the expected verdict */
        post: operations["keep-probes"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/probes.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The probes with their results as CSV */
        get: operations["export-probe-results"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/probes.txt": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The probes, a line each, as the bench reads them */
        get: operations["export-probes"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/probes/drop": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Drop probes */
        post: operations["drop-probes"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/proposals": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The proposals of the newest derivation as they stand */
        get: operations["list-proposals"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/proposals/judge": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Take and refuse proposals, all in one step */
        post: operations["judge-proposals"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/proposals/{id}/evidence": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The conversations of the window that a proposal would newly permit, the busiest first */
        get: operations["list-evidence"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/records": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The single records behind a conversation */
        get: operations["list-records"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/refused-batches": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Batches of traffic whose contents the database rejects */
        get: operations["list-refused-batches"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/refused-batches/{id}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        post?: never;
        /** Delete a rejected batch */
        delete: operations["drop-refused-batch"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/refused-batches/{id}/records.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The records of a rejected batch as a file of flows */
        get: operations["export-refused-batch"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/releases": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Release the draft; the points of the first wave observe it */
        post: operations["release"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/releases/preview": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** How large the plans of the draft would be */
        get: operations["preview-release"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/releases/{no}/difference": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What changes from one release to another */
        get: operations["compare-releases"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/report": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The policy in plain words, for somebody who owns applications */
        get: operations["read-report"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/report.md": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The report as Markdown */
        get: operations["export-report"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/retention": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The retention of traffic, or what other bounds would delete */
        get: operations["read-retention"];
        /** Set the retention of traffic */
        put: operations["set-retention"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/rollout": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The releases, the points, and what each runs */
        get: operations["read-roll-out"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/rollout/hold": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /** Pause the roll-out, or resume it */
        put: operations["hold-roll-out"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/rollout/orders": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Order points to observe or enforce a release, to roll back, or to run none */
        post: operations["order-points"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/rollout/waves/{no}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /** Set the conditions under which a wave enforces */
        put: operations["set-wave"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/rollout/waves/{no}/access": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The machines of a wave, with who could still administer them */
        get: operations["list-wave-access"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/rollout/waves/{no}/rejected": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Conversations of today that the newest release rejects at the points of a wave */
        get: operations["list-wave-rejections"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/rules.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The rules as CSV */
        get: operations["export-rules"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/selections": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Saved selections of a list */
        get: operations["list-selections"];
        /** Save a selection */
        put: operations["save-selection"];
        post?: never;
        /** Forget a selection */
        delete: operations["drop-selection"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/service-ports": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Corrections of which port is a service */
        get: operations["list-service-ports"];
        put?: never;
        /** Declare a port a service, and swap stored conversations accordingly */
        post: operations["add-service-port"];
        /** Withdraw a correction of a port, and swap conversations back */
        delete: operations["remove-service-port"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/settle": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The ways to settle a kind of conversation */
        get: operations["list-settle-choices"];
        put?: never;
        /** Settle a kind of conversation by a rule or a probe */
        post: operations["settle"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/settle/rows": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Settle several rows of the ledger in one step */
        post: operations["settle-rows"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/sources": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The sources of workloads, the one whose values win first */
        get: operations["list-sources"];
        /** Say whose values win */
        put: operations["rank-sources"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/starters": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Groups, guardrails and assertions to start with that the policy lacks */
        get: operations["list-starters"];
        put?: never;
        /** Add starters to the draft, with the groups that they need */
        post: operations["take-starters"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/suggestions": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Tags that workloads probably lack */
        get: operations["list-suggestions"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/suggestions.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The suggestions as CSV */
        get: operations["export-suggestions"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/suggestions/accept": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Set suggested tags */
        post: operations["accept-suggestions"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/suggestions/refuse": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Refuse suggested tags, or allow them again */
        post: operations["refuse-suggestions"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/summary": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The figures of every step of the work */
        get: operations["read-summary"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/tags": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Set or remove tags of workloads */
        post: operations["set-tags"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/tokens": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The tokens of scripts, without their secrets */
        get: operations["list-tokens"];
        put?: never;
        /** Create a token for a script; its secret is shown only once */
        post: operations["add-token"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/tokens/{id}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** A token, without its secret */
        get: operations["read-token"];
        put?: never;
        post?: never;
        /** Take a token back */
        delete: operations["revoke-token"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/troubles": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Current problems of the server, its disk and its database */
        get: operations["list-troubles"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/vocabulary/fix": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Set the usual spelling */
        post: operations["fix-misspellings"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/vocabulary/misspellings": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Values that look misspelt */
        get: operations["list-misspellings"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/vocabulary/not-applicable": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /** Declare for which workloads a tag does not apply */
        put: operations["set-not-applicable"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/vocabulary/structural": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /** Choose the tags that name what no group fits */
        put: operations["set-structural-keys"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/watch": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** How well the policy in force held over a time: the counts and the matters */
        get: operations["watch"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/watch/counters": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The outcomes of the connections of the last minutes, by pair or by rule */
        get: operations["count"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/watch/destinations/{name}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /** Say where messages go */
        put: operations["keep-destination"];
        post?: never;
        /** Delete a destination and its queue */
        delete: operations["drop-destination"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/watch/destinations/{name}/trial": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Send a trial */
        post: operations["try-destination"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/watch/groups": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /** Choose the groups that are watched for new callers, missing callers and members */
        put: operations["choose-watched"];
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/watch/matters.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** All matters of the last hundred days as CSV */
        get: operations["export-matters"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/watch/matters/state": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Mark matters as seen, assigned or settled */
        post: operations["say-of-matters"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/watch/matters/{id}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** A matter, with the conversations of one of its days */
        get: operations["read-matter"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/watch/notices": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Who is told of what, and where messages go */
        get: operations["read-notices"];
        put?: never;
        /** Notify somebody of matters or of traffic */
        post: operations["add-notice"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/watch/notices/{id}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        /** Change a notice, or pause it */
        put: operations["change-notice"];
        post?: never;
        /** Forget a notice */
        delete: operations["drop-notice"];
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/whatif": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Answer many questions at once */
        post: operations["answer-questions"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/why": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** Why a conversation gets its verdict, down to the tag */
        get: operations["explain-verdict"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/workloads": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The selected workloads */
        get: operations["list-workloads"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/workloads.csv": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The selected workloads as CSV */
        get: operations["export-workloads"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/workloads/facets": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The values of the tags of the selected workloads, with how many have each */
        get: operations["list-facets"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/workloads/find": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        get?: never;
        put?: never;
        /** Find what a pasted list names */
        post: operations["find-workloads"];
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/workloads/{id}": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** One workload, with its traffic */
        get: operations["read-workload"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/workloads/{id}/points": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** The points that guard a workload, and what they run */
        get: operations["list-guards"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
    "/api/v1/workloads/{id}/rules": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        /** What may reach a workload, and what it may reach, in deciding order */
        get: operations["read-workload-rules"];
        put?: never;
        post?: never;
        delete?: never;
        options?: never;
        head?: never;
        patch?: never;
        trace?: never;
    };
}
export type webhooks = Record<string, never>;
export interface components {
    schemas: {
        About: {
            /** @description Its address */
            exporter?: string;
            group?: string;
            /**
             * Format: int64
             * @description Of the rule that decides
             */
            line?: number;
            /** @description An enforcement point */
            point?: string;
            /**
             * Format: int64
             * @description By which it was judged; none: the draft
             */
            release?: number;
            /** @description One client that tries many */
            scan?: boolean;
            /** @description An assertion, or a rule */
            text?: string;
            what?: components["schemas"]["Side"];
            who?: components["schemas"]["Side"];
            /** @description Its id */
            workload?: string;
        };
        "Accept-suggestionsRequest": {
            tags: components["schemas"]["TagOf"][];
        };
        "Add-pointRequest": {
            /** @description An expression: which workloads it guards */
            guards: string;
            /** @enum {string} */
            kind: "host" | "gate" | "file";
            name: string;
            /** @description Another gate guards the same workloads and sees part of their packets */
            paired?: boolean;
            /** @description Whether it restores manual changes */
            putsBack?: boolean;
            /**
             * @default both
             * @enum {string}
             */
            side: "server" | "client" | "both";
            /**
             * Format: int64
             * @default 1
             */
            wave: number;
        };
        "Add-tokenRequest": {
            /** @description Of the script */
            name: string;
            /** @description It may release policies, and feeds nothing */
            releases?: boolean;
            /** @description The source that it feeds */
            source?: string;
        };
        Answer: {
            findings: components["schemas"]["Found"][];
            /** @description The answer of the release in force, if it differs from the draft's */
            inForce?: components["schemas"]["InForce"];
            /** @description Why a question cannot be answered */
            problem?: string;
            /** @description To a question about groups or several ends */
            several?: components["schemas"]["AnswerOut"];
            why?: components["schemas"]["Why"];
        };
        "Answer-questionsRequest": {
            /** @description Questions, one a line: client -> server service, and = with a verdict if one is expected */
            text: string;
        };
        AnswerOut: {
            asExpected: boolean;
            /** @description Pairs all of whose points get the verdict */
            counts: components["schemas"]["CountsOut"];
            /**
             * Format: int64
             * @description Of the text that was asked
             */
            line: number;
            /** Format: int64 */
            maybeCount: number;
            /**
             * Format: int64
             * @description Pairs of which it depends on the port
             */
            mixed: number;
            /**
             * Format: int64
             * @description Of a client and a server
             */
            pairs: number;
            /** @description By the rule that decides; uncovered first */
            parts: components["schemas"]["AnswerPartOut"][];
            /** @description In the one layout, without the expected verdict */
            question: string;
            /** @description Workloads that may be meant, because a tag is missing; at most 20 */
            undecided: components["schemas"]["MaybeOut"][];
            /**
             * @description The one that all of it gets; several, or nothing if it speaks of no two endpoints
             * @enum {string}
             */
            verdict: "permit" | "reject" | "uncovered" | "several" | "nothing";
            /**
             * @description The verdict that is expected, if one is
             * @enum {string}
             */
            want?: "" | "permit" | "reject" | "uncovered";
            /** @description The answer in a sentence */
            words: string;
        };
        AnswerPartOut: {
            /** @description Of an example */
            client: components["schemas"]["EndpointOut"];
            /** Format: int64 */
            clientCount: number;
            /** @description At most 5 */
            clients: components["schemas"]["MaybeOut"][];
            /** Format: int64 */
            pairs: number;
            point: string;
            rule?: components["schemas"]["RuleRef"];
            server: components["schemas"]["EndpointOut"];
            /** Format: int64 */
            serverCount: number;
            servers: components["schemas"]["MaybeOut"][];
            /** @description The points */
            service: string;
            /** @enum {string} */
            verdict: "permit" | "reject" | "uncovered";
        };
        Aside: {
            /**
             * Format: int64
             * @description Those that no rule of the draft decides yet
             */
            conversations: number;
            /** @description At most 50 */
            examples: components["schemas"]["Talk"][];
            reason: string;
            words: string;
        };
        AssertChange: {
            /**
             * @description gone: the assertion is no longer there
             * @enum {string}
             */
            after: "holds" | "open" | "broken" | "gone";
            before: string;
            sentence: string;
        };
        AssertFix: {
            /**
             * Format: int64
             * @description The line that they stand before; 0: last in the layer allowances
             */
            before: number;
            consequences?: components["schemas"]["Consequences"];
            /** @description Whether there is one */
            found: boolean;
            /** @description Rules to add */
            lines: string[];
            /** Format: int64 */
            revision: number;
            words: string;
        };
        AssertOut: {
            clauses: string;
            /** @description The counterexample */
            client?: components["schemas"]["EndpointOut"];
            /** @enum {string} */
            kind: "never" | "always" | "only";
            left: string[];
            /** Format: int64 */
            line: number;
            note?: string;
            on: string;
            /** @enum {string} */
            result: "holds" | "open" | "broken";
            right: string[];
            rule?: components["schemas"]["RuleRef"];
            sentence: string;
            server?: components["schemas"]["EndpointOut"];
            service?: string;
        };
        Assertion: {
            /** @description What contradicts it */
            example?: string;
            note?: string;
            /** @enum {string} */
            result: "holds" | "open" | "broken";
            sentence: string;
        };
        Assignment: {
            /** @description The id of the plan that Moves lead on from, and for which Plan is short; blank: Plan is all of it, or the point has it */
            from?: string;
            /** @description Of the plan */
            id: string;
            /** @description One after the other */
            moves?: components["schemas"]["Moves"][];
            plan?: components["schemas"]["Plan"];
            /** Format: int64 */
            release: number;
            /** @description The same as long as only addresses come and go */
            rules: string;
        };
        BadKind: {
            column?: string;
            /** @description The first of them */
            lines: number[];
            /** @description Of the first of them */
            reason: string;
            /** Format: int64 */
            rows: number;
        };
        Before: {
            /** Format: int64 */
            asserts: number;
            /**
             * Format: int64
             * @description Probes that get the verdict that is expected, of the draft
             */
            expected: number;
            /**
             * Format: int64
             * @description Assertions that hold, of the draft
             */
            holding: number;
            /** Format: int64 */
            probes: number;
            /**
             * Format: int64
             * @description Conversations of the window that run today and that the newest release rejects somewhere
             */
            rejects: number;
            /**
             * Format: int64
             * @description Conversations of the window that the newest release leaves uncovered: they are carried
             */
            uncovered: number;
        };
        Belongs: {
            group: string;
            listed?: string;
            reasons: components["schemas"]["ReasonOut"][];
            /** @enum {string} */
            truth: "yes" | "no" | "undecided";
        };
        BinOut: {
            at: string;
            /** Format: int64 */
            permit: number;
            /** Format: int64 */
            reject: number;
            /** Format: int64 */
            uncovered: number;
        };
        Break: {
            /** @description What changed then */
            cause: string[];
            /** @description What changed when it ended */
            ended: string[];
            example?: string;
            /** Format: date-time */
            from: string;
            /** Format: int64 */
            line?: number;
            /** @enum {string} */
            outcome: "broken" | "open" | "undefined";
            /** Format: int64 */
            release: number;
            rule?: string;
            /**
             * Format: date-time
             * @description None: it still was so at the end of the period
             */
            until?: string;
        };
        Caller: {
            /** Format: int64 */
            connections: number;
            /** Format: int64 */
            conversations: number;
            /** Format: int64 */
            days: number;
            label: string;
            name: string;
        };
        CallerTime: {
            /** @description It contradicts the promise */
            against: boolean;
            /** Format: int64 */
            days: number;
            /** Format: date-time */
            first: string;
            /** @description The group or tags that it goes by */
            label: string;
            /** Format: date-time */
            last: string;
            name: string;
            /**
             * Format: int64
             * @description By which; 0: the draft
             */
            release: number;
            rule?: string;
            /** @description What it reached goes by that */
            server: string;
            service: string;
            sums: components["schemas"]["Hour"];
            /** @enum {string} */
            verdict: "permit" | "reject" | "uncovered";
        };
        Change: {
            /** Format: date-time */
            at: string;
            author: string;
            /** Format: int64 */
            id: number;
            /** @enum {string} */
            kind: "policy" | "tags" | "judging" | "probes" | "workloads" | "flows";
            /** @description What had to be left as it is, and why */
            note?: string;
            words: string;
        };
        Changed: {
            /** Format: int64 */
            changed: number;
        };
        CheckOut: {
            /**
             * Format: int64
             * @description Rejected, and accepted by a probe
             */
            accepted: number;
            /**
             * Format: int64
             * @description Carried conversations that the draft rejects and that no probe accepts
             */
            asking: number;
            bytes: {
                [key: string]: number;
            };
            /**
             * Format: int64
             * @description Permitted, yet dropped
             */
            chokes: number;
            /** @description By verdict */
            connections: {
                [key: string]: number;
            };
            /**
             * Format: int64
             * @description Of the window, without the filter
             */
            conversations: number;
            counts: components["schemas"]["CountsOut"];
            difference?: components["schemas"]["DifferenceOut"];
            /** @description Leaks and chokes are judged by the releases that points enforced; otherwise by the draft */
            held: boolean;
            /**
             * Format: int64
             * @description Rejected, yet carried
             */
            leaks: number;
            /**
             * Format: int64
             * @description Uncovered conversations that reach a store in live
             */
            liveStores: number;
            /** @description By verdict */
            outcomes: {
                [key: string]: components["schemas"]["OutcomesOut"];
            };
            /** @description Pairs of a client and a server by the verdict that asks for most; if they are the measure */
            pairs?: components["schemas"]["CountsOut"];
            /** Format: int64 */
            revision: number;
            /** Format: int64 */
            rules: number;
        };
        Choice: {
            /**
             * Format: int64
             * @description Of the proposal's, those that it permits
             */
            conversations: number;
            /**
             * Format: int64
             * @description Of those, how many no rule of the draft decides yet
             */
            open: number;
            /** Format: int64 */
            opened: number;
            sentence: string;
            /** @description The groups it needs and the rule, a line each */
            text: string;
            /** @description The difference to the proposal; blank: it is the proposal */
            words: string;
        };
        "Choose-watchedRequest": {
            /** @description None: those that assertions protect */
            groups: string[];
        };
        Class: {
            addresses: string[];
            client: components["schemas"]["Rule"][];
            name: string;
            server: components["schemas"]["Rule"][];
            workloads: string[];
        };
        ClassMoves: {
            added?: string[];
            name: string;
            removed?: string[];
        };
        CollectorOut: {
            /** Format: date-time */
            at: string;
            /**
             * Format: int64
             * @description That were stored since the start
             */
            batches: number;
            /**
             * Format: double
             * @description Age of the oldest of them, in seconds
             */
            behind: number;
            /**
             * Format: int64
             * @description Batches that were lost for want of room, or set aside because they cannot be read
             */
            dropped: number;
            /**
             * Format: int64
             * @description Sessions that were sent off before their time, for want of room
             */
            early: number;
            /** @description The last time */
            jump?: components["schemas"]["Jump"];
            /**
             * Format: int64
             * @description How often the clock of its machine was set since the start
             */
            jumps: number;
            listening: string[];
            /**
             * Format: int64
             * @description Records for which there was no room
             */
            lost: number;
            name: string;
            /** @description It has not reported for half a minute: it does not run */
            quiet: boolean;
            /**
             * Format: double
             * @description Records a second, over the last seconds
             */
            rate: number;
            /**
             * Format: int64
             * @description Of conversations, that were stored since the start
             */
            records: number;
            /** @description Packets of addresses that may not send */
            refused?: {
                [key: string]: number;
            };
            /**
             * Format: int64
             * @description Records that an exporter sent twice
             */
            repeated: number;
            /**
             * Format: int64
             * @description In memory
             */
            sessions: number;
            /**
             * Format: int64
             * @description Batches whose content the database refused
             */
            setAside: number;
            /** Format: int64 */
            spoolBytes: number;
            /**
             * Format: int64
             * @description Batches that the database has not taken yet
             */
            spooled: number;
            /** Format: date-time */
            started: string;
            /**
             * Format: int64
             * @description What the last batch took to store
             */
            storeMillis: number;
            told: string;
            /**
             * Format: int64
             * @description Packets of senders for whom there was no room
             */
            tooMany: number;
            /** @description Why the database does not take batches */
            trouble?: string;
            /**
             * Format: date-time
             * @description Since when
             */
            troubleAt?: string;
            /**
             * Format: int64
             * @description Records that were in memory only when the collector was last killed, at most
             */
            unfinished: number;
            /**
             * Format: int64
             * @description Records that are in memory only
             */
            waiting: number;
        };
        Company: {
            /** @description What users have added to the made-up company, as in 2 workloads; blank: nothing */
            added: string;
            /** @description The estate is the made-up company, which can be removed as a whole */
            madeUp: boolean;
            /** @description Blank: nobody has named the estate */
            name: string;
        };
        "Compare-runningRequest": {
            /**
             * @default nft
             * @enum {string}
             */
            format: "nft" | "acl" | "k8s" | "json";
            /** @description As the device prints it */
            text: string;
        };
        Comparison: {
            after: components["schemas"]["Period"];
            before: components["schemas"]["Period"];
            /** @description Who reached it in one and not in the other */
            did: components["schemas"]["Move"][];
            /** @description Who may reach it at the end of one and not of the other, by rule; much is how many clients */
            may: components["schemas"]["Move"][];
            /** @description Whom it protects at the end of one and not of the other */
            members: components["schemas"]["Move"][];
            /** @description Points that guarded it in one and not in the other */
            points: components["schemas"]["Move"][];
            /** @description By which one may reach it, in both */
            rules: string[];
            /** @description Whether both speak of the same promise */
            same: boolean;
        };
        Condition: {
            /** @description Whether the wave waits for it */
            asked: boolean;
            /** @enum {string} */
            key: "points" | "minutes" | "asserts" | "probes" | "wayBack" | "server" | "settled" | "leases";
            met: boolean;
            words: string;
        };
        Consequences: {
            asserts: components["schemas"]["AssertChange"][];
            /**
             * Format: int64
             * @description Conversations that change verdict
             */
            changed: number;
            conversations: components["schemas"]["VerdictChange"][];
            /** @description Likely mistakes in new statements: tags that no workload has, days that have passed */
            doubts: string[];
            /**
             * Format: int64
             * @description How many groups change
             */
            groupCount: number;
            /** @description Those that change most, at most 1,000 */
            groups: components["schemas"]["GroupChange"][];
            opens: components["schemas"]["Opening"];
            /** @description Those that begin or cease to get the verdict that is expected */
            probes: components["schemas"]["ProbeChange"][];
        };
        ConversationDetail: {
            clientGroups: string[];
            /** @description As key=value */
            clientTags: string[];
            /** @description Who reported it in the window */
            exporters: string[];
            /** Format: int64 */
            packets: number;
            serverGroups: string[];
            serverTags: string[];
        };
        ConversationOut: {
            /** Format: int64 */
            bytes: number;
            /** Format: int64 */
            carried: number;
            client: components["schemas"]["EndpointOut"];
            /** Format: int64 */
            connections: number;
            /** @description Only where it was asked for */
            detail?: components["schemas"]["ConversationDetail"];
            /** Format: int64 */
            dropped: number;
            first: string;
            last: string;
            /**
             * Format: int64
             * @description Line of the deciding rule; 0 if there is none
             */
            rule: number;
            server: components["schemas"]["EndpointOut"];
            service: string;
            spark: number[];
            /**
             * Format: int64
             * @description Connections that may be the wrong way round
             */
            unsure: number;
            /** @enum {string} */
            verdict: "permit" | "reject" | "uncovered";
            /**
             * @description Its verdict in the revision that is compared with
             * @enum {string}
             */
            was?: "permit" | "reject" | "uncovered";
        };
        ConversationPage: {
            conversations: components["schemas"]["ConversationOut"][];
            /** Format: int64 */
            total: number;
        };
        CounterOut: {
            /** @description By bin: ten minutes' minutes, an hour's minutes, or a day's hours */
            carried: number[];
            counts: components["schemas"]["WatchBin"];
            dropped: number[];
            /** Format: int64 */
            line?: number;
            /**
             * Format: int64
             * @description By which it was judged; 0: the draft
             */
            release: number;
            /** @description Blank: no rule, where counters are by rule */
            rule?: string;
            what?: string;
            who?: string;
        };
        CounterPage: {
            /** @description Those of which most was dropped or leaked first, then the busiest */
            counters: components["schemas"]["CounterOut"][];
            from: string;
            /** Format: int64 */
            total: number;
        };
        Counts: {
            /** Format: int64 */
            permit: number;
            /** Format: int64 */
            reject: number;
            /** Format: int64 */
            uncovered: number;
        };
        CountsOut: {
            /** Format: int64 */
            permit: number;
            /** Format: int64 */
            reject: number;
            /** Format: int64 */
            uncovered: number;
        };
        Coverage: {
            /**
             * Format: int64
             * @description Workloads guarded where they are called and where they call
             */
            both: number;
            /**
             * Format: int64
             * @description Only where they call
             */
            client: number;
            /**
             * Format: int64
             * @description By no point, because they are exempt
             */
            exempt: number;
            /**
             * Format: int64
             * @description By no point
             */
            none: number;
            /** @description Rules that no point can apply */
            nowhere: number[];
            /** @description Rules that points apply only where their clients are */
            onClient: number[];
            /** @description Rules that points apply only where their servers are */
            onServer: number[];
            /**
             * Format: int64
             * @description Only where they are called
             */
            server: number;
        };
        Day: {
            /**
             * Format: int64
             * @description Connections that were carried though the promise speaks against them
             */
            against: number;
            /**
             * Format: int64
             * @description Did not keep it
             */
            broken: number;
            /** @description Such as 2026-11-28 */
            day: string;
            /** @description While no release was in force: the worst result of the draft */
            draft?: string;
            /**
             * Format: int64
             * @description Most workloads at one time whose point had drifted
             */
            drifted: number;
            /**
             * Format: int64
             * @description Of which a point enforced, at the worst time of the day
             */
            enforced: number;
            /**
             * Format: int64
             * @description Exempt, at most
             */
            exempt: number;
            /**
             * Format: int64
             * @description Seconds for which the policy in force kept the promise
             */
            holds: number;
            /**
             * Format: int64
             * @description Workloads that it protects
             */
            members: number;
            /**
             * Format: int64
             * @description Nothing was in force
             */
            none: number;
            /**
             * Format: int64
             * @description Of which a point only observed, at most
             */
            observed: number;
            /**
             * Format: int64
             * @description Said nothing of some of it
             */
            open: number;
            releases: number[];
            /**
             * @description What that comes to: a promise is kept only where nothing is missing to show it
             * @enum {string}
             */
            shown: "kept" | "broken" | "cannot be shown";
            /**
             * Format: int64
             * @description Whose point was silent, at most
             */
            silent: number;
            /** @enum {string} */
            state: "broken" | "leaked" | "open" | "undefined" | "none" | "partly" | "unknown" | "held";
            sums: components["schemas"]["Hour"];
            /**
             * Format: int64
             * @description Did not know its groups
             */
            undefined: number;
            /**
             * Format: int64
             * @description Hours in which nothing at all was seen anywhere
             */
            unknownHours: number;
        };
        DayCounts: {
            /** Format: int64 */
            broken: number;
            /** Format: int64 */
            days: number;
            /** Format: int64 */
            held: number;
            /** Format: int64 */
            leaked: number;
            /** Format: int64 */
            none: number;
            /** Format: int64 */
            open: number;
            /** Format: int64 */
            partly: number;
            /** Format: int64 */
            undefined: number;
            /** Format: int64 */
            unknown: number;
        };
        DayOut: {
            /** Format: int64 */
            bytes: number;
            day: string;
            /**
             * Format: int64
             * @description As the database estimates
             */
            rows: number;
            /** @enum {string} */
            what: "conversations" | "records";
        };
        DerivedOut: {
            aside: components["schemas"]["Aside"][];
            /** Format: double */
            balance: number;
            /**
             * Format: int64
             * @description Conversations that no rule decided, and that were not only dropped
             */
            considered: number;
            /** Format: int64 */
            covered: number;
            /**
             * Format: int64
             * @description Conversations that no rule decided, and that the network only dropped: nothing is proposed for them
             */
            dropped: number;
            from: string;
            /** @description Rules of the draft that nothing in the window needed */
            gone: components["schemas"]["GoneRule"][];
            /** Format: int64 */
            id: number;
            /** @description The proposals of each balance */
            path: components["schemas"]["PathPoint"][];
            /** @description Of all balances, each once; then those that are barred */
            proposals: components["schemas"]["ProposalOut"][];
            /**
             * Format: int64
             * @description That it was derived on
             */
            revision: number;
            /** @description What it was limited to: the group or area */
            scope?: string;
            /** @description Worth setting, that which settles most first */
            tags: components["schemas"]["NamedTag"][];
            to: string;
        };
        DestinationOut: {
            /** Format: date-time */
            at: string;
            author: string;
            /**
             * Format: date-time
             * @description Since when it takes none
             */
            failing?: string;
            /** @description It has a secret, or a password */
            keeps: boolean;
            /** @enum {string} */
            kind: "syslog" | "webhook" | "mail";
            name: string;
            /** @description Why */
            problem?: string;
            /** @description Why it refused the last of them */
            refusal?: string;
            /**
             * Format: int64
             * @description Messages that it refused again and again, while it took others: they are set aside
             */
            refused: number;
            /**
             * Format: date-time
             * @description When it took a message last
             */
            sent?: string;
            settings: components["schemas"]["Settings"];
            /**
             * Format: int64
             * @description Messages that it has not taken yet
             */
            waiting: number;
        };
        Difference: {
            /** Format: int64 */
            against: number;
            /** Format: int64 */
            revision: number;
            /** @description removed: only the revision has it; added: only the other */
            statements: components["schemas"]["Statement"][];
        };
        DifferenceOut: {
            /** Format: int64 */
            changed: number;
            /** @description By the verdict in that revision: conversations by the verdict now */
            counts: {
                [key: string]: components["schemas"]["CountsOut"];
            };
            revision: components["schemas"]["Revision"];
        };
        Disagreement: {
            key: string;
            name: string;
            /** @description The one that counts first */
            values: components["schemas"]["SourceValue"][];
            workload: string;
        };
        DisagreementList: {
            disagreements: components["schemas"]["Disagreement"][];
            /** Format: int64 */
            total: number;
        };
        "Drop-probesRequest": {
            questions: string[];
        };
        EditIn: {
            /**
             * Format: int64
             * @description add, move: the line to put it before; without it, at the end of the layer
             */
            before?: number;
            layer?: string;
            /**
             * Format: int64
             * @description Of the statement, in that revision
             */
            line?: number;
            /** @enum {string} */
            op: "add" | "change" | "remove" | "move" | "switch";
            /**
             * Format: int64
             * @description The revision that the edit was made on
             */
            revision: number;
            /** @description The new statement; for add one or more, a line each */
            text?: string;
            /** @description change, remove: the statement as it was shown, or what stands after the = of a group. If something else stands there by now, nothing is changed */
            was?: string;
        };
        EditOut: {
            consequences?: components["schemas"]["Consequences"];
            /** @description Of a dry run; without one, errors are a problem */
            errors: components["schemas"]["TextError"][];
            /** Format: int64 */
            revision: number;
            words: string;
        };
        EffectiveRule: {
            at?: string;
            author?: string;
            /**
             * Format: int64
             * @description Conversations of the workload in the window that it decides
             */
            hits: number;
            layer: string;
            /** Format: int64 */
            line: number;
            note?: string;
            /**
             * Format: int64
             * @description Its place in deciding order, from 1
             */
            number: number;
            /** @description The rule as it stands in the text, without its note */
            sentence: string;
            /** @enum {string} */
            verdict: "permit" | "reject";
        };
        EndpointOut: {
            addr: string;
            /** @description What the ledger calls it */
            label: string;
            /** @description A structural tag that it lacks */
            lack?: string;
            name: string;
            /** @description Id; empty for outside */
            workload?: string;
        };
        ErrorDetail: {
            /** @description Where the error occurred, e.g. 'body.items[3].tags' or 'path.thing-id' */
            location?: string;
            /** @description Error message text */
            message?: string;
            /** @description The value at the given location */
            value?: unknown;
        };
        Event: {
            /** Format: date-time */
            at: string;
            /** Format: int64 */
            enforces: number;
            /** Format: int64 */
            observes: number;
            /** @enum {string} */
            what: "applied" | "refused" | "drifted" | "put back" | "went back" | "ended" | "ahead";
            words: string;
        };
        Evidence: {
            /**
             * Format: int64
             * @description Connections that were carried though the promise speaks against them
             */
            against: number;
            /** @description When the policy in force broke the promise */
            breaks: components["schemas"]["Break"][];
            /** @description Who asked for it */
            by: string;
            /** @description Who did: the busiest first */
            callers: components["schemas"]["CallerTime"][];
            /** @description Of the policy and its releases */
            changes: components["schemas"]["Happening"][];
            counts: components["schemas"]["DayCounts"];
            days: components["schemas"]["Day"][];
            /** @description Of those whom it protects */
            exemptions: components["schemas"]["ExemptTime"][];
            format: string;
            /** Format: date-time */
            from: string;
            /** @description Times of which less is known */
            gaps: components["schemas"]["Gap"][];
            /** @description What it was made from */
            inputs: components["schemas"]["Input"][];
            /** Format: date-time */
            made: string;
            mayChanges: components["schemas"]["MayChange"][];
            /** @description Who might reach it at the start of the period */
            mayFirst: components["schemas"]["MayWay"][];
            /** @description At its end */
            mayLast: components["schemas"]["MayWay"][];
            memberChanges: components["schemas"]["MemberChange"][];
            /** @description Whom it protects, at the start */
            membersFirst: string[];
            membersLast: string[];
            /**
             * Format: int64
             * @description Callers that are counted, and not listed
             */
            moreCallers: number;
            /** @description How this was made, where that needs saying */
            notes: string[];
            /** @description The points that guarded them, and the releases that each had loaded */
            points: components["schemas"]["PointTime"][];
            promise: components["schemas"]["Promise"];
            /** @description The answer */
            sentence: string;
            /**
             * Format: date-time
             * @description The period ends before it
             */
            to: string;
            total: components["schemas"]["Hour"];
            /** @description What was in force of the policy, the oldest first */
            versions: components["schemas"]["VersionTime"][];
        };
        EvidenceIn: {
            /**
             * Format: date
             * @description The first day, UTC
             */
            from: string;
            /** @description An assertion, or group and its name */
            promise: string;
            /**
             * Format: date
             * @description The last day, UTC; one that is not over ends now
             */
            to: string;
        };
        EvidenceKept: {
            author: string;
            /** Format: date-time */
            from: string;
            /** Format: int64 */
            id: number;
            /** Format: date-time */
            made: string;
            /** @description An assertion, or group and its name */
            promise: string;
            /**
             * Format: int64
             * @description That made it; none: somebody
             */
            schedule?: number;
            /** @description The answer */
            sentence: string;
            /**
             * Format: date-time
             * @description The period ends before it
             */
            to: string;
        };
        EvidenceOut: {
            evidence: components["schemas"]["Evidence"];
            /** @description Of the key that signed it */
            fingerprint: string;
            /** Format: int64 */
            id: number;
            /** @description Whether the server can make a PDF of it */
            prints: boolean;
            /**
             * Format: int64
             * @description That made it; none: somebody
             */
            schedule?: number;
        };
        EvidencePromises: {
            /** @description Of the draft, in its order */
            assertions: string[];
            /** @description Fingerprint of the key, for comparison */
            fingerprint: string;
            /** @description By name */
            groups: string[];
            /** @description The public key of this server, Ed25519, base64 */
            key: string;
            /** @description Whether the server can make PDFs */
            prints: boolean;
        };
        EvidenceSchedule: {
            /** Format: date-time */
            at: string;
            author: string;
            /** @enum {string} */
            every: "month" | "quarter";
            /** Format: int64 */
            id: number;
            /**
             * Format: date-time
             * @description The start of the newest period that it made
             */
            last?: string;
            /** @description Why the last was not made */
            problem?: string;
            promise: string;
        };
        EvidenceScheduleIn: {
            /**
             * @description It is made when one is over
             * @enum {string}
             */
            every: "month" | "quarter";
            /** @description An assertion, or group and its name */
            promise: string;
        };
        EvidenceScheduleMade: {
            /** Format: int64 */
            id: number;
        };
        "Exempt-workloadRequest": {
            /**
             * Format: date-time
             * @description From when on points guard it again
             */
            ends: string;
            /** @description Who answers for it */
            owner: string;
            reason: string;
        };
        ExemptTime: {
            author: string;
            /** Format: date-time */
            from: string;
            name: string;
            owner: string;
            reason: string;
            /** Format: date-time */
            until: string;
            /** @description Its id */
            workload: string;
        };
        ExemptionOut: {
            /** Format: date-time */
            at: string;
            author: string;
            /** Format: date-time */
            ends: string;
            name: string;
            /** @description Its day has come: points guard the workload again */
            over: boolean;
            owner: string;
            reason: string;
            /** @description Its id */
            workload: string;
        };
        ExporterOut: {
            addr: string;
            collector: string;
            /** @description What was wrong with the last of them */
            fault?: string;
            /** Format: date-time */
            faultAt?: string;
            /** Format: date-time */
            first: string;
            /**
             * @description Where it writes the types of ICMP messages for which its records have no field, as chosen by a person
             * @enum {string}
             */
            icmp?: "destination" | "source" | "nowhere";
            /** @description Who said so */
            icmpBy?: string;
            /** Format: date-time */
            last: string;
            /** @description Of the workload, or the address */
            name: string;
            /** Format: int64 */
            octets: number;
            /**
             * Format: double
             * @description Records a second
             */
            rate: number;
            /**
             * Format: int64
             * @description Ports that it sends from
             */
            sessions: number;
            streams: components["schemas"]["StreamStatus"][];
            /** @description Last report of the collector */
            told: string;
            /** @description Packets that could not be read to their end, by the reason */
            unread: components["schemas"]["FaultStatus"][];
            /** @description Id of the workload that has its address now */
            workload?: string;
        };
        ExportersOut: {
            collectors: components["schemas"]["CollectorOut"][];
            exporters: components["schemas"]["ExporterOut"][];
            /**
             * Format: int64
             * @description Exporters in all
             */
            total: number;
        };
        Facet: {
            key: string;
            /**
             * Format: int64
             * @description Workloads that lack the tag and that it applies to
             */
            missing: number;
            /**
             * Format: int64
             * @description Workloads that lack the tag and that it does not apply to
             */
            notApplicable: number;
            /** @description The expression for the workloads that it does not apply to */
            notApplicableTo?: string;
            structural: boolean;
            values: components["schemas"]["FacetValue"][];
        };
        FacetValue: {
            /** Format: int64 */
            count: number;
            /** @description The usual spelling that this one looks like */
            like?: string;
            value: string;
        };
        FaultStatus: {
            /** Format: int64 */
            packets: number;
            reason: string;
        };
        Figures: {
            /** @description In the order of the text */
            groups: components["schemas"]["GroupFigures"][];
            /** @description In deciding order */
            rules: components["schemas"]["RuleFigures"][];
        };
        "Find-workloadsRequest": {
            /** @description Ids, names or addresses, separated by blanks, commas, semicolons or line breaks */
            text: string;
        };
        FindingList: {
            findings: components["schemas"]["FoundAt"][];
            /** Format: int64 */
            revision: number;
            /** Format: int64 */
            total: number;
        };
        FindingOut: {
            /** @description What would settle it with one action, in words */
            fix?: string;
            kind: string;
            /** @description The fix decides something differently: look at the consequences first */
            turns?: boolean;
            /** @description The reason */
            words: string;
        };
        "Fix-findingRequest": {
            /** @description Of the finding */
            kind: string;
            /**
             * Format: int64
             * @description Of the statement
             */
            line: number;
            /**
             * Format: int64
             * @description The revision that the finding was read in
             */
            revision: number;
        };
        "Fix-misspellingsRequest": {
            misspellings: components["schemas"]["Misspelling"][];
        };
        FlowGroup: {
            /**
             * Format: int64
             * @description Conversations that the network carried
             */
            carried: number;
            client: string;
            /** Format: int64 */
            connections: number;
            /** Format: int64 */
            conversations: number;
            /** @enum {string} */
            is: "permit" | "reject" | "uncovered";
            /** @description When it was last seen */
            last: string;
            /** @description That decides it now */
            rule?: string;
            server: string;
            service: string;
            /** @enum {string} */
            was: "permit" | "reject" | "uncovered";
            /** @description The rule's note, or the reason that was given */
            why?: string;
        };
        "Follow-releaseRequest": {
            /** @description Enforce it there as soon as the conditions of the waves are met; otherwise it is only observed */
            enforce?: boolean;
            /**
             * Format: int64
             * @description The last wave that it is to reach
             */
            wave: number;
        };
        Followed: {
            /**
             * Format: int64
             * @description Points up to the wave
             */
            of: number;
            /**
             * Format: int64
             * @description Points that have loaded it as ordered
             */
            points: number;
            /**
             * @description arrived: finished; moving: points have their instructions, but have not reported yet; waits: for a condition or a person
             * @enum {string}
             */
            state: "arrived" | "moving" | "waits" | "replaced" | "failed";
            /** @description What it waits for, or what failed */
            words: string[];
        };
        Form: {
            /** @description What each heading is read as; blank: left out */
            columns?: {
                [key: string]: string;
            };
            /**
             * @description How 4/5/2026 is read
             * @enum {string}
             */
            days?: "day-first" | "month-first";
            /** @description Of a table: a comma, semicolon, tab, bar or blank */
            delimiter?: string;
            /** @enum {string} */
            encoding?: "utf-8" | "utf-16le" | "utf-16be" | "windows-1252";
            /**
             * Format: int64
             * @description Of a table: the line with the names of the columns
             */
            header?: number;
            /**
             * @description What it is a form of, where it is saved
             * @enum {string}
             */
            kind?: "workloads" | "flows";
            /** @description Of a table: a quote may stand in the middle of a cell */
            loose?: boolean;
            /** @description Of flows: the words for carried, dropped and unknown */
            outcomes?: {
                [key: string]: string;
            };
            /** @description Of JSON: where the list of rows stands (RFC 6901) */
            pointer?: string;
            /** @description Of flows: the words for protocols */
            protocols?: {
                [key: string]: string;
            };
            /** @description Of times that name none: such as Europe/Oslo; blank: UTC */
            zone?: string;
        };
        FormerValue: {
            /** Format: date-time */
            at: string;
            author: string;
            key: string;
            source: string;
            /** Format: date-time */
            until: string;
            value: string;
            workload: string;
        };
        Found: {
            hint: string;
            id: string;
            /** @enum {string} */
            kind: "workload" | "group" | "rule";
            name: string;
        };
        FoundAt: {
            /** @description What would settle it with one action, in words */
            fix?: string;
            group?: string;
            kind: string;
            /**
             * Format: int64
             * @description 0 is the whole policy
             */
            line: number;
            /** @description The statement */
            text: string;
            /** @description The fix decides something differently: look at the consequences first */
            turns?: boolean;
            /** @description The reason */
            words: string;
        };
        FoundList: {
            /** @description Names that more than one workload has; all of them are in */
            several: string[];
            /** @description What names no workload */
            unknown: string[];
            workloads: components["schemas"]["WorkloadOut"][];
        };
        Gap: {
            /** Format: date-time */
            from: string;
            /** Format: date-time */
            until: string;
            words: string;
        };
        GoneRule: {
            /** Format: int64 */
            line: number;
            note?: string;
            sentence: string;
        };
        GroupChange: {
            group: string;
            /**
             * Format: int64
             * @description How many join
             */
            joinCount: number;
            /** @description The first of them */
            joins: string[];
            /** Format: int64 */
            leaveCount: number;
            /** @description The first of them */
            leaves: string[];
            /** @description The first of those of whom it can no longer tell */
            undecided: string[];
            /** Format: int64 */
            undecidedCount: number;
        };
        GroupFigures: {
            name: string;
            reached: components["schemas"]["UseOut"];
            reaches: components["schemas"]["UseOut"];
        };
        GroupHistory: {
            /** @description Newest first, at most 500 */
            changes: components["schemas"]["MembershipChange"][];
            /** @description Revisions of the window in which the group's definition changed, newest first */
            revisions: components["schemas"]["Revision"][];
            /** Format: int64 */
            total: number;
        };
        GroupMembership: {
            group: string;
            listed?: string;
            /** @description Keys that would settle it */
            missing?: string[];
            reasons: components["schemas"]["ReasonOut"][];
            /** @enum {string} */
            truth: "yes" | "undecided";
        };
        GroupOut: {
            /** @description The expression with include and exclude */
            body: string;
            findings: components["schemas"]["FindingOut"][];
            /** Format: int64 */
            in: number;
            /** Format: int64 */
            line: number;
            name: string;
            note?: string;
            /**
             * Format: int64
             * @description Prefixes that it names
             */
            prefixes: number;
            /**
             * Format: int64
             * @description Members without an address now
             */
            unaddressed: number;
            /** Format: int64 */
            undecided: number;
            usedBy: components["schemas"]["Use"][];
        };
        GroupPreview: {
            canonical: string;
            consequences?: components["schemas"]["Consequences"];
            counts: components["schemas"]["MemberCounts"];
            errors: components["schemas"]["TextError"][];
            /** @description At most 200 */
            in: components["schemas"]["Member"][];
            /** @description Where the expression tests the field name, and workloads have none */
            nameless?: components["schemas"]["Nameless"];
            out: components["schemas"]["Member"][];
            /** @description Groups that share members */
            shares: components["schemas"]["SharedGroup"][];
            /**
             * Format: int64
             * @description Members without an address now
             */
            unaddressed: number;
            undecided: components["schemas"]["Member"][];
            /** @description Of the group in the draft */
            was: components["schemas"]["MemberCounts"];
        };
        GroupUse: {
            reached: components["schemas"]["UseOut"];
            reaches: components["schemas"]["UseOut"];
        };
        Guarded: {
            /** @description Names of the first of them */
            some: string[];
            /**
             * Format: int64
             * @description A tag is missing: they would not be guarded
             */
            undecided: number;
            /** Format: int64 */
            workloads: number;
        };
        Happening: {
            /** Format: date-time */
            at: string;
            author: string;
            kind: string;
            words: string;
        };
        HeldTime: {
            /** Format: date-time */
            from: string;
            /** @enum {string} */
            mode: "off" | "observe" | "enforce" | "silent" | "drifted";
            /**
             * Format: int64
             * @description 0: nothing
             */
            release: number;
            /** Format: date-time */
            until: string;
            /** @description Of a drift: the differences */
            words?: string;
        };
        Hold: {
            /** Format: date-time */
            at: string;
            author: string;
            reason: string;
        };
        "Hold-roll-outRequest": {
            /** @description false: it goes on */
            hold: boolean;
            reason?: string;
        };
        Hour: {
            /**
             * Format: int64
             * @description Dropped, though permitted
             */
            chokes: number;
            /**
             * Format: int64
             * @description Dropped, and not permitted by the release enforced then
             */
            held: number;
            /**
             * Format: int64
             * @description Carried, though rejected
             */
            leaks: number;
            /**
             * Format: int64
             * @description Carried, as a rule permits
             */
            permitted: number;
            /**
             * Format: int64
             * @description Cannot be judged, because a point changed its release or mode in the hour in which they were counted
             */
            unclear: number;
            /**
             * Format: int64
             * @description Carried, as no rule speaks of them
             */
            uncovered: number;
        };
        HourOut: {
            at: string;
            /** Format: int64 */
            bytes: number;
            /** Format: int64 */
            connections: number;
            first: string;
            last: string;
            observer: string;
            outcome: string;
            /** Format: int64 */
            packets: number;
        };
        ImportAnswer: {
            job?: components["schemas"]["Job"];
            preview?: components["schemas"]["ImportReport"];
        };
        ImportExample: {
            id: string;
            new: boolean;
            what: string[];
        };
        ImportReport: {
            /**
             * Format: int64
             * @description New workloads, or conversation-hours
             */
            added: number;
            /** @description The same file was counted before: when */
            already?: string;
            /**
             * Format: int64
             * @description Rows that cannot be used
             */
            bad: number;
            /** @description The errors by kind; the most frequent first */
            badKinds: components["schemas"]["BadKind"][];
            /** @description Of a capture: packets carry other packets (GRE, VXLAN and so on); carriers says whether both count */
            carried?: boolean;
            /**
             * Format: int64
             * @description Workloads that change
             */
            changed: number;
            /**
             * Format: int64
             * @description Of a complete list that lacks much: the value of confirm, if it is complete nevertheless
             */
            confirm?: number;
            /** @description The first of them */
            errors: components["schemas"]["RowError"][];
            /** @description The first workloads that are new or change */
            examples: components["schemas"]["ImportExample"][];
            /** @description Of flows: the format of the file */
            fileFormat?: string;
            /** @description Its first rows */
            first?: string[][];
            /** @description How the file is read, with the guesses */
            form?: components["schemas"]["Form"];
            /** @description Of flows: the span they cover */
            from?: string;
            /** @description Of a table */
            headings?: string[];
            /**
             * Format: int64
             * @description Rows that are left out for a question
             */
            held: number;
            /**
             * Format: int64
             * @description Tag values that stay because they were set by hand or come from a higher source
             */
            kept: number;
            /**
             * Format: int64
             * @description Of a complete list: workloads that the source has listed and that are not in it
             */
            missing: number;
            /** @description Tag values that nothing had before */
            newWords: string[];
            /**
             * Format: int64
             * @description Of flows: those with an end that no workload has
             */
            outside: number;
            /** @description Of flows: about rows that are left out until accept names their kind */
            questions?: components["schemas"]["Question"][];
            /** @description Of these, those that no other source lists: they were retired */
            retired?: string[];
            /**
             * Format: int64
             * @description Data rows of the file
             */
            rows: number;
            /** Format: int64 */
            same: number;
            to?: string;
            /**
             * Format: int64
             * @description Of flows: records whose direction is not certain
             */
            unsure: number;
            /** @description Why nothing can be read in this way */
            unusable?: string;
            warnings: string[];
            /** @description Of flows: its words for outcomes and protocols */
            words?: components["schemas"]["WordUse"][];
        };
        InForce: {
            /**
             * Format: int64
             * @description Of the deciding rule in that release; 0: none decides
             */
            line: number;
            /** Format: int64 */
            release: number;
            /** @enum {string} */
            verdict: "permit" | "reject" | "uncovered";
        };
        Input: {
            /** Format: int64 */
            lines: number;
            name: string;
            /** @description Of the lines, each ended by a line feed */
            sha256: string;
            words: string;
        };
        Instructions: {
            /**
             * Format: int64
             * @description How often the same instructions were sent again: the point then retries
             */
            again: number;
            /** @description The release that decides; none: everything is carried */
            enforces?: components["schemas"]["Assignment"];
            /**
             * Format: int64
             * @description Version of the estate that the plans were made from
             */
            estate: number;
            /** @description The same as long as the same is to be loaded */
            id: string;
            /** @description The orders that the server has */
            lineage: components["schemas"]["Mark"][];
            /** @description The release on trial */
            observes?: components["schemas"]["Assignment"];
            /** @description Another point sees part of the packets */
            paired: boolean;
            /** @description Whether the point restores manual changes automatically */
            putsBack: boolean;
            /** @description Enforcement has to be confirmed in time */
            trial?: components["schemas"]["Trial"];
            /** @description A person decided that a point which took this order follows the server, though that does not have it */
            yields: components["schemas"]["Mark"];
        };
        Job: {
            /**
             * Format: double
             * @description Share that is done, 0 to 1
             */
            done: number;
            /** Format: date-time */
            finished?: string;
            /** Format: int64 */
            id: number;
            kind: string;
            message: string;
            result?: unknown;
            /** Format: date-time */
            started: string;
            /** @enum {string} */
            state: "running" | "done" | "failed" | "cancelled";
            title: string;
        };
        "Judge-proposalsRequest": {
            judgements: components["schemas"]["Judgement"][];
            /**
             * Format: int64
             * @description The revision that the proposals were judged on
             */
            revision: number;
            /** @description Combine the taken proposals into one rule with a same clause */
            together?: boolean;
        };
        Judgement: {
            /**
             * Format: int64
             * @description take: which of its choices; without it, the proposal itself
             */
            choice?: number;
            /**
             * @description again: it is to be judged again
             * @enum {string}
             */
            do: "take" | "refuse" | "again";
            /**
             * Format: int64
             * @description Its id
             */
            proposal: number;
            /** @description refuse: why */
            reason?: string;
        };
        Jump: {
            /**
             * Format: date-time
             * @description The time of day after it
             */
            at: string;
            /**
             * Format: double
             * @description By how much; below 0: it was set back
             */
            seconds: number;
        };
        "Keep-probesRequest": {
            reason: string;
            /** @description Questions, one a line; one without an expected verdict expects the one that it gets now */
            text: string;
        };
        Lately: {
            /** Format: int64 */
            permit: number;
            /** Format: int64 */
            reject: number;
            /**
             * Format: int64
             * @description Of those that were rejected or uncovered: on record one by one. The others were too many at once
             */
            reported: number;
            /**
             * Format: double
             * @description Of the time that is counted: a minute, or less at first
             */
            seconds: number;
            /** Format: int64 */
            uncovered: number;
        };
        LeaseOut: {
            addr: string;
            from?: string;
            now: boolean;
            until?: string;
        };
        LedgerPage: {
            rows: components["schemas"]["LedgerRow"][];
            /** Format: int64 */
            total: number;
        };
        LedgerRow: {
            /** Format: int64 */
            bytes: number;
            /**
             * Format: int64
             * @description Conversations with another verdict in the revision that is compared with
             */
            changed: number;
            /** Format: int64 */
            chokes: number;
            /** Format: int64 */
            connections: number;
            /** Format: int64 */
            conversations: number;
            counts: components["schemas"]["CountsOut"];
            first: string;
            /** @description What near and far take */
            key: string;
            /** @enum {string} */
            kind: "group" | "tags" | "workload" | "outside";
            label: string;
            lack?: string;
            last: string;
            /** Format: int64 */
            leaks: number;
            /** Format: int64 */
            otherCount: number;
            /** @description The other side, most undecided first; at most 6 */
            others: components["schemas"]["OtherOut"][];
            rules: number[];
            service: string;
            serviceName?: string;
            spark: number[];
        };
        Line: {
            /**
             * Format: int64
             * @description 0: no rule
             */
            line: number;
            /** Format: int64 */
            packets: number;
            /** Format: int64 */
            release: number;
            /** @enum {string} */
            verdict: "permit" | "reject" | "uncovered";
        };
        ListingOut: {
            /**
             * Format: int64
             * @description Rows that cannot be used; the others were taken
             */
            bad: number;
            /**
             * Format: int64
             * @description Workloads that changed; 0 for a listing without changes
             */
            changed: number;
            /** @description The first of them */
            errors: components["schemas"]["RowError"][];
            /** @description Of a complete list: workloads that nobody lists any more */
            retired: string[];
            /** Format: int64 */
            rows: number;
            source: string;
            /**
             * Format: int64
             * @description Workloads that were taken from it
             */
            taken: number;
        };
        MachineAccess: {
            id: string;
            name: string;
            /** @description An administrator could still reach it */
            open: boolean;
            /**
             * @description How the administrators are known; anybody: only from the policy
             * @enum {string}
             */
            source: "assertion" | "seen" | "anybody";
            words: string;
        };
        Mark: {
            epoch: string;
            /** Format: int64 */
            order: number;
        };
        MatterDay: {
            /** @description Of them, those that were carried */
            carried: number[];
            /** Format: int64 */
            clients: number;
            /** Format: int64 */
            connections: number;
            /** Format: int64 */
            conversations: number;
            /** Format: date-time */
            day: string;
            /** @description Of them, those that were dropped; of the rest it is not known */
            dropped: number[];
            /** Format: date-time */
            first: string;
            /** @description Connections in each hour of the day */
            hours: number[];
            /** Format: date-time */
            last: string;
            /** Format: int64 */
            servers: number;
        };
        MatterOut: {
            about: components["schemas"]["About"];
            /**
             * Format: date-time
             * @description It opens again then
             */
            again?: string;
            /** @description Of the state */
            author?: string;
            /**
             * Format: int64
             * @description Of the connections, those that were carried
             */
            carried: number;
            /**
             * Format: date-time
             * @description The state
             */
            changed: string;
            /** Format: int64 */
            clients: number;
            /**
             * Format: int64
             * @description Of the hours that the time touches; of one that was not seen in it, of its last day
             */
            connections: number;
            /**
             * Format: int64
             * @description Of its last day, or of the one in the time that had most
             */
            conversations: number;
            /**
             * Format: int64
             * @description On how many days it was seen, of the last hundred
             */
            days: number;
            /**
             * Format: int64
             * @description Of the connections, those that were dropped; of the rest it is not known
             */
            dropped: number;
            /** Format: date-time */
            ended?: string;
            /** Format: date-time */
            first: string;
            /** @description With whom it is */
            holder?: string;
            id: string;
            kind: string;
            /** Format: date-time */
            last: string;
            note?: string;
            /**
             * Format: date-time
             * @description When it was new, the last time
             */
            opened: string;
            /** Format: int64 */
            servers: number;
            /** @description Connections over the time; empty for an hour */
            spark: number[];
            /** @description It is so until it is over; else it is what was seen on days */
            standing: boolean;
            /** @enum {string} */
            state: "new" | "seen" | "with" | "settled";
            /** @description A sentence in pieces */
            title: components["schemas"]["Piece"][];
            why: string;
            /** @description It was seen in the time */
            within: boolean;
        };
        MatterPage: {
            about: components["schemas"]["About"];
            /**
             * Format: date-time
             * @description It opens again then
             */
            again?: string;
            /** @description Of the state */
            author?: string;
            /**
             * Format: int64
             * @description Of the connections, those that were carried
             */
            carried: number;
            /**
             * Format: date-time
             * @description The state
             */
            changed: string;
            /** Format: int64 */
            clients: number;
            /**
             * Format: int64
             * @description Of the hours that the time touches; of one that was not seen in it, of its last day
             */
            connections: number;
            /**
             * Format: int64
             * @description Of its last day, or of the one in the time that had most
             */
            conversations: number;
            /** @description That the conversations are of */
            day: string;
            /**
             * Format: int64
             * @description On how many days it was seen, of the last hundred
             */
            days: number;
            /**
             * Format: int64
             * @description Of the connections, those that were dropped; of the rest it is not known
             */
            dropped: number;
            /** Format: date-time */
            ended?: string;
            /** Format: date-time */
            first: string;
            /** @description With whom it is */
            holder?: string;
            id: string;
            kind: string;
            /** Format: date-time */
            last: string;
            /** @description The newest first */
            log: components["schemas"]["MatterWord"][];
            note?: string;
            /** @description The newest first */
            onDays: components["schemas"]["MatterDay"][];
            /**
             * Format: date-time
             * @description When it was new, the last time
             */
            opened: string;
            /** @description That the matter speaks of */
            points: components["schemas"]["MatterPoint"][];
            /** Format: int64 */
            servers: number;
            /** @description Connections over the time; empty for an hour */
            spark: number[];
            /** @description It is so until it is over; else it is what was seen on days */
            standing: boolean;
            /** @enum {string} */
            state: "new" | "seen" | "with" | "settled";
            /** @description Of these, those seen last */
            talks: components["schemas"]["MatterTalk"][];
            /** @description A sentence in pieces */
            title: components["schemas"]["Piece"][];
            /**
             * Format: int64
             * @description Conversations of the day
             */
            total: number;
            why: string;
            /** @description It was seen in the time */
            within: boolean;
        };
        MatterPoint: {
            mode: string;
            name: string;
            state: string;
            words?: string;
        };
        MatterTalk: {
            /** Format: int64 */
            bytes: number;
            /** Format: int64 */
            carried: number;
            client: components["schemas"]["EndpointOut"];
            /** Format: int64 */
            connections: number;
            /** @description Only where it was asked for */
            detail?: components["schemas"]["ConversationDetail"];
            /** Format: int64 */
            dropped: number;
            first: string;
            /** @description The rule that decides there, in words */
            judged?: string;
            last: string;
            /**
             * Format: int64
             * @description Of that rule
             */
            line?: number;
            /** @description Who reported it */
            observer?: string;
            /**
             * Format: int64
             * @description By which it was judged; 0: the draft
             */
            release: number;
            /**
             * Format: int64
             * @description Line of the deciding rule; 0 if there is none
             */
            rule: number;
            server: components["schemas"]["EndpointOut"];
            service: string;
            spark: number[];
            /**
             * Format: int64
             * @description Connections that may be the wrong way round
             */
            unsure: number;
            /** @enum {string} */
            verdict: "permit" | "reject" | "uncovered";
            /**
             * @description Its verdict in the revision that is compared with
             * @enum {string}
             */
            was?: "permit" | "reject" | "uncovered";
        };
        MatterWord: {
            /** Format: date-time */
            at: string;
            /** @description Blank: it did so by itself */
            author: string;
            words: string;
        };
        MayChange: {
            added: string[];
            /** Format: date-time */
            at: string;
            cause: string[];
            removed: string[];
            rule: string;
        };
        MayWay: {
            clients: string[];
            /** Format: int64 */
            line: number;
            /**
             * Format: int64
             * @description 0: of the draft, while nothing was in force
             */
            release: number;
            rule: string;
        };
        MaybeOut: {
            lacks: string[];
            name: string;
            workload?: string;
        };
        Member: {
            /**
             * @description Compared with the group in the draft
             * @enum {string}
             */
            change?: "joins" | "leaves" | "undecided";
            id: string;
            /** @description Keys that would settle it */
            missing?: string[];
            name: string;
            /** @description What settled it */
            why: string;
        };
        MemberChange: {
            /** Format: date-time */
            at: string;
            cause: string[];
            joined: boolean;
            name: string;
        };
        MemberCounts: {
            /** Format: int64 */
            in: number;
            /** Format: int64 */
            out: number;
            /** Format: int64 */
            undecided: number;
        };
        MemberPage: {
            members: components["schemas"]["Member"][];
            /** Format: int64 */
            total: number;
        };
        MembershipChange: {
            /** @enum {string} */
            after: "yes" | "no" | "undecided";
            at: string;
            /** @enum {string} */
            before: "yes" | "no" | "undecided";
            name: string;
            why: string;
            workload: string;
        };
        Misspelling: {
            /** Format: int64 */
            count: number;
            key: string;
            like: string;
            value: string;
        };
        Move: {
            /** @enum {string} */
            in: "before" | "after";
            /**
             * Format: int64
             * @description Connections
             */
            much?: number;
            /** @description Of clients, the first 20 */
            names?: string[];
            what: string;
        };
        Moves: {
            classes?: components["schemas"]["ClassMoves"][];
            sets?: components["schemas"]["SetMoves"][];
        };
        Named: {
            id: string;
            name: string;
        };
        NamedTag: {
            key: string;
            /** @description The workload's */
            name: string;
            /**
             * Format: int64
             * @description Conversations of it that proposals decide by it
             */
            settles: number;
            value: string;
            /** @description The value that it has, if it looks misspelt */
            was?: string;
            /** @description Its id */
            workload: string;
        };
        Nameless: {
            /**
             * Format: int64
             * @description Workloads without a name, which the tests leave undecided
             */
            count: number;
            /** @description The text with id in the place of name */
            withId: string;
        };
        NoticeIn: {
            /** Format: date-time */
            ends?: string;
            /** @description All traffic that this filter of the ledger selects, as in an address; excludes kinds, who, what and matter */
            filter?: string;
            /** @description Of matters; none: any */
            kinds?: string[];
            /** @description Just this one, by its id */
            matter?: string;
            /** @enum {string} */
            pace: "at once" | "hourly" | "daily";
            paused?: boolean;
            quiet?: components["schemas"]["Quiet"];
            /** @description Destinations */
            to: string[];
            /** @description An expression that a server agrees with */
            what?: string;
            /** @description An expression that a client agrees with */
            who?: string;
        };
        NoticeMade: {
            /** Format: int64 */
            id: number;
        };
        NoticeOut: {
            /** Format: date-time */
            at: string;
            author: string;
            /** Format: date-time */
            ends?: string;
            /** @description Of whatever traffic this filter of the ledger selects, as it stands in an address; then it is of no matters */
            filter?: string;
            /**
             * Format: date-time
             * @description Time of the last message
             */
            fired?: string;
            /** Format: int64 */
            id: number;
            /** @description Of matters; none: any */
            kinds: string[];
            /** @description Just this one, by its id */
            matter?: string;
            /** @enum {string} */
            pace: "at once" | "hourly" | "daily";
            paused: boolean;
            /** @description Why it can tell nothing any more */
            problem?: string;
            /**
             * Format: int64
             * @description Minute of the day, UTC, from which on nothing is sent
             */
            quietFrom?: number;
            /**
             * Format: int64
             * @description Minute of the day, UTC, until which nothing is sent
             */
            quietUntil?: number;
            /** @description Destinations */
            to: string[];
            /** @description An expression that a server agrees with */
            what?: string;
            /** @description An expression that a client agrees with */
            who?: string;
        };
        NoticesOut: {
            /** @description By name */
            destinations: components["schemas"]["DestinationOut"][];
            /** @description Of matters, that there may be */
            kinds: string[];
            /** @description The oldest first */
            notices: components["schemas"]["NoticeOut"][];
        };
        Opening: {
            /**
             * Format: int64
             * @description Pairs of client and server that get permit on at least one point
             */
            pairs: number;
            /**
             * Format: int64
             * @description Those of them without a conversation in the window on such a point
             */
            unseen: number;
        };
        Order: {
            /** @description Enforce also if conditions of the wave are not met */
            anyway?: boolean;
            /**
             * @description roll back: to Release; confirm: enforcement on trial stays
             * @enum {string}
             */
            do: "observe" | "enforce" | "roll back" | "off" | "confirm";
            /**
             * Format: int64
             * @description Enforce on trial: points return by themselves unless somebody confirms in time
             */
            minutes?: number;
            /** @description Their names; none: those of Wave */
            points?: string[];
            /**
             * Format: int64
             * @description Not for off and confirm
             */
            release?: number;
            /**
             * Format: int64
             * @description 0: all points
             */
            wave?: number;
            /** @description Ids of machines that may become unreachable for administration; "*": all */
            without?: string[];
        };
        Ordered: {
            after: components["schemas"]["PointRuns"];
            before: components["schemas"]["PointRuns"];
            changed: boolean;
            point: string;
            words: string;
        };
        OtherOut: {
            counts: components["schemas"]["CountsOut"];
            label: string;
            lack?: string;
        };
        OutcomesOut: {
            /** Format: int64 */
            carried: number;
            /** Format: int64 */
            dropped: number;
            /** Format: int64 */
            unknown: number;
        };
        Part: {
            /** @description Rejected although it runs, and accepted by somebody */
            accepted: components["schemas"]["FlowGroup"][];
            /** @description What is permitted now, and was not */
            gains: components["schemas"]["FlowGroup"][];
            /** @description What was permitted, and is no longer */
            loses: components["schemas"]["FlowGroup"][];
            name: string;
            /** @description Conversations that it has an end of */
            now: components["schemas"]["Counts"];
            /** @description What is asked of its owner: uncovered, or rejected while it runs */
            open: components["schemas"]["FlowGroup"][];
            /** @description What changes its verdict otherwise */
            others: components["schemas"]["FlowGroup"][];
            /** @description Of the areas that its workloads are in */
            owner?: string;
            then: components["schemas"]["Counts"];
        };
        PartOut: {
            counts: components["schemas"]["CountsOut"];
            /** @description What for takes */
            key: string;
            name: string;
            /** @description In the revision that is compared with; without one as counts */
            then: components["schemas"]["CountsOut"];
        };
        Parts: {
            /**
             * Format: int64
             * @description Set aside, each for a reason
             */
            aside: number;
            /**
             * Format: int64
             * @description Of all but the decided ones, how many the closing layer decides; the others are uncovered
             */
            closing: number;
            /**
             * Format: int64
             * @description A rule of the draft decides them by now
             */
            decided: number;
            /**
             * Format: int64
             * @description The network only dropped them: nothing is proposed for them
             */
            dropped: number;
            /**
             * Format: int64
             * @description Behind refused proposals only
             */
            refused: number;
            /**
             * Format: int64
             * @description Behind a proposal that is still to be judged
             */
            toJudge: number;
            /**
             * Format: int64
             * @description Proposed at another balance only
             */
            unproposed: number;
        };
        PassageOut: {
            /** @description ~outside and ~nowhere are no columns */
            clientColumn: string;
            clientRow: string;
            counts: components["schemas"]["CountsOut"];
            serverColumn: string;
            serverRow: string;
            /** @description By verdict that occurs: what it is most of */
            top: components["schemas"]["StreamOut"][];
        };
        PathPoint: {
            /** Format: double */
            balance: number;
            /** @description Of its proposals, in order */
            ids: number[];
            /** Format: double */
            opened: number;
            /** @description All conversations of the derivation, each in one part; without it, an earlier version derived */
            parts?: components["schemas"]["Parts"];
            /** Format: int64 */
            rules: number;
        };
        Period: {
            /** Format: int64 */
            breaks: number;
            /** Format: int64 */
            callers: number;
            counts: components["schemas"]["DayCounts"];
            /**
             * Format: int64
             * @description Exemptions
             */
            exempt: number;
            from: string;
            promise: components["schemas"]["Promise"];
            sentence: string;
            to: string;
            total: components["schemas"]["Hour"];
        };
        Piece: {
            /** @description It names who, or what */
            strong?: boolean;
            text: string;
        };
        PlaceOut: {
            name: string;
            /**
             * Format: int64
             * @description How many values of the tag it stands for: more than one of ~others
             */
            values: number;
            /** Format: int64 */
            workloads: number;
        };
        Plan: {
            classes: components["schemas"]["Class"][];
            kind: string;
            sets: components["schemas"]["Set"][];
            side: string;
        };
        PlanText: {
            /**
             * Format: int64
             * @description How often the same instructions were sent again: the point then retries
             */
            again: number;
            /** @description The release that decides; none: everything is carried */
            enforces?: components["schemas"]["Assignment"];
            /**
             * Format: int64
             * @description Version of the estate that the plans were made from
             */
            estate: number;
            /** @description The same as long as the same is to be loaded */
            id: string;
            /** @description The orders that the server has */
            lineage: components["schemas"]["Mark"][];
            /** @description The release on trial */
            observes?: components["schemas"]["Assignment"];
            /** @description Another point sees part of the packets */
            paired: boolean;
            /** @description Whether the point restores manual changes automatically */
            putsBack: boolean;
            /** @description For nft -f; blank: the point runs nothing */
            script: string;
            /** @description Enforcement has to be confirmed in time */
            trial?: components["schemas"]["Trial"];
            /** @description A person decided that a point which took this order follows the server, though that does not have it */
            yields: components["schemas"]["Mark"];
        };
        PlotOut: {
            column: string;
            parts: components["schemas"]["PlotPartOut"][];
            row: string;
        };
        PlotPartOut: {
            name: string;
            /**
             * Format: int64
             * @description Of these, those that lack a structural tag
             */
            open: number;
            /** Format: int64 */
            workloads: number;
        };
        PointEvent: {
            /** Format: date-time */
            at: string;
            mode?: string;
            /**
             * Format: int64
             * @description The release that it also observed
             */
            observes?: number;
            point: string;
            /** Format: int64 */
            release?: number;
            /** @description told, applied, refused, drifted, put back, went back, ended, ahead */
            what: string;
            words: string;
        };
        PointMade: {
            name: string;
            token: string;
        };
        PointRuns: {
            /** Format: int64 */
            enforces: number;
            /** Format: int64 */
            observes: number;
        };
        PointState: {
            /**
             * Format: date-time
             * @description When it last received instructions
             */
            aimed?: string;
            author: string;
            /**
             * Format: int64
             * @description The release that it is to enforce; 0: none
             */
            enforces: number;
            /** @description The address that its agent reports from */
            from?: string;
            /** @description An expression */
            guards: string;
            /**
             * Format: date-time
             * @description When it was heard of last
             */
            heard?: string;
            /** @description Its last report of its state */
            held?: components["schemas"]["Status"];
            /** @enum {string} */
            kind: "host" | "gate" | "file";
            /** Format: date-time */
            made: string;
            name: string;
            /**
             * Format: int64
             * @description The release that it is to observe; 0: none
             */
            observes: number;
            /** Format: date-time */
            otherAt?: string;
            /** @description The address of another agent that used its token meanwhile */
            otherFrom?: string;
            /** @description Another point sees part of its packets */
            paired: boolean;
            /** @description Why it cannot receive instructions */
            problem?: string;
            /** @description Whether it restores manual changes */
            putsBack: boolean;
            /**
             * Format: int64
             * @description Conversations of the window that run today, and that the newest release which it is to run rejects
             */
            rejects: number;
            /** @enum {string} */
            side: "server" | "client" | "both";
            /**
             * @description new: it has never reported; waiting: it has not loaded its plan yet; ahead: it took an order that this server does not have
             * @enum {string}
             */
            state: "new" | "waiting" | "holds" | "refused" | "drifted" | "went back" | "ahead" | "silent";
            /**
             * Format: date-time
             * @description Enforcement ends then by itself unless it is confirmed
             */
            trialUntil?: string;
            /**
             * Format: int64
             * @description Workloads that its expression cannot tell: they are not guarded
             */
            undecided: number;
            /** Format: int64 */
            wave: number;
            /**
             * Format: int64
             * @description That it guards now
             */
            workloads: number;
        };
        PointTime: {
            guards: string;
            held: components["schemas"]["HeldTime"][];
            kind: string;
            /**
             * Format: int64
             * @description Of those protected, at most
             */
            members: number;
            name: string;
            side: string;
        };
        PolicyOut: {
            /** @description Conversations of the window by verdict */
            counts: components["schemas"]["CountsOut"];
            /**
             * Format: int64
             * @description Revisions since the beginning
             */
            edits: number;
            redo?: components["schemas"]["Change"];
            /** Format: int64 */
            revision: number;
            /** Format: int64 */
            rules: number;
            statements: components["schemas"]["StatementOut"][];
            text: string;
            undo?: components["schemas"]["Change"];
        };
        Preview: {
            /**
             * Format: int64
             * @description Addresses and ranges in sets and maps
             */
            elements: number;
            /** @description The point with the largest plan; none: there is no point */
            largest?: string;
            /**
             * Format: int64
             * @description Rules of its classes, on both sides
             */
            rules: number;
        };
        "Preview-groupRequest": {
            /** @description Of the group; empty for a new one */
            name: string;
            /** @description What stands after the =: an expression, include and exclude */
            text: string;
        };
        Probe: {
            asExpected: boolean;
            question: string;
            reason?: string;
            want: string;
            /** @description What is answered */
            words: string;
        };
        ProbeChange: {
            asExpected: boolean;
            question: string;
            want: string;
            /** @description What is answered then */
            words: string;
        };
        ProbeOut: {
            answer?: components["schemas"]["AnswerOut"];
            /** Format: date-time */
            at: string;
            author: string;
            /** @description Why it cannot be asked any more */
            problem?: string;
            /** @description client -> server service */
            question: string;
            reason: string;
            /**
             * Format: int64
             * @description Conversations of the window whose rejection it accepts
             */
            rightly: number;
            /** @enum {string} */
            want: "permit" | "reject" | "uncovered";
        };
        Problem: {
            /** @description What, where, and what to do */
            detail: string;
            errors?: components["schemas"]["ErrorDetail"][];
            /** @description What stands there now */
            now?: string;
            /**
             * Format: int64
             * @description The newest revision
             */
            revision?: number;
            /** Format: int64 */
            status: number;
            title: string;
            /**
             * @description A name that stays
             * @example /problems/changed-meanwhile
             */
            type: string;
            /** @description What the request was made on */
            was?: string;
        };
        Promise: {
            /** @enum {string} */
            kind: "never" | "always" | "only" | "group";
            /** @description As it stands in the policy; for a group, its name */
            text: string;
            words: string;
        };
        ProposalOut: {
            /** @description It was refused, but there is much more behind it now */
            again: boolean;
            /** @description Why it has to be looked at by itself; it is taken with no others */
            alone?: string;
            /** @description It lets far more in than was seen, and can only be narrowed */
            barred: boolean;
            /** Format: int64 */
            callerCount: number;
            /** @description The busiest, at most 8 */
            callers: components["schemas"]["Caller"][];
            /** @description What can be taken, from narrow to wide */
            choices: components["schemas"]["Choice"][];
            /** Format: int64 */
            connections: number;
            /**
             * Format: int64
             * @description That it rests on, when it was derived
             */
            conversations: number;
            /** Format: int64 */
            days: number;
            /** Format: double */
            fill: number;
            first: string;
            /** @description New groups, as statements */
            groups: string[];
            /** Format: int64 */
            id: number;
            /** @description The rule without its note; the key of a refusal */
            key: string;
            last: string;
            /**
             * Format: int64
             * @description Of those, how many no rule of the draft decides yet
             */
            open: number;
            /**
             * Format: int64
             * @description Pairs times services that it opens
             */
            opened: number;
            /**
             * Format: int64
             * @description Which of the choices is the proposal itself
             */
            own: number;
            /**
             * Format: int64
             * @description Pairs times services that were seen
             */
            pairs: number;
            refused?: components["schemas"]["Refusal"];
            rule: components["schemas"]["RuleOut"];
            /** @description The same for proposals that say the same of other applications */
            shape?: string;
            spark: number[];
            warnings: string[];
            /** @description This width: who takes part, on how many days */
            why: string;
        };
        Proposals: {
            /** @description The result of the newest that is done, without what the draft has taken */
            derived?: components["schemas"]["DerivedOut"];
            /** @description The newest derivation */
            job?: components["schemas"]["Job"];
            refused: components["schemas"]["Refusal"][];
            /** @description The draft has changed since; deriving again proposes only the difference */
            stale: boolean;
        };
        Question: {
            /** @enum {string} */
            kind: "port" | "time";
            /** @description The first of them */
            lines: number[];
            /** Format: int64 */
            rows: number;
            words: string;
        };
        Quiet: {
            /**
             * Format: int64
             * @description Minute of the day, UTC
             */
            from: number;
            /**
             * Format: int64
             * @description Minute of the day, UTC; before from: of the next day
             */
            until: number;
        };
        "Rank-sourcesRequest": {
            /** @description All sources, the one whose values win first */
            names: string[];
        };
        ReasonOut: {
            group?: string;
            key?: string;
            kids?: components["schemas"]["ReasonOut"][];
            /** @description The workload does not have the key */
            missing?: boolean;
            tag?: components["schemas"]["TagOut"];
            text: string;
            /** @enum {string} */
            truth: "yes" | "no" | "undecided";
            value?: string;
        };
        RecordOut: {
            /** Format: int64 */
            bytes: number;
            /** Format: int64 */
            clientPort: number;
            /**
             * Format: int64
             * @description That client and server are the right way round, in percent
             */
            confidence: number;
            /**
             * Format: int64
             * @description 0: a later part of one that goes on
             */
            connections: number;
            end: string;
            /** @description Who saw it */
            exporter: string;
            /** @description TCP control bits that the client sent */
            flags: string[];
            /** @enum {string} */
            outcome: "" | "carried" | "dropped";
            /**
             * Format: int64
             * @description Both ways
             */
            packets: number;
            /** @description What decided that */
            reason: string;
            /** Format: int64 */
            replyBytes: number;
            replyFlags: string[];
            /** Format: int64 */
            replyPackets: number;
            start: string;
        };
        RecordPage: {
            /**
             * Format: int64
             * @description For how many days single records are kept; 0 is without bound
             */
            days: number;
            records: components["schemas"]["RecordOut"][];
            /** Format: int64 */
            total: number;
        };
        Refusal: {
            /** Format: date-time */
            at: string;
            author: string;
            /** Format: int64 */
            callers: number;
            /** Format: int64 */
            conversations: number;
            instead?: string;
            reason: string;
            /** @description The proposed rule without its note */
            rule: string;
        };
        "Refuse-suggestionsRequest": {
            /** @description Take the refusals back */
            again?: boolean;
            tags: components["schemas"]["TagOf"][];
        };
        RefusedBatch: {
            /** Format: date-time */
            at: string;
            collector: string;
            id: string;
            reason: string;
            /**
             * Format: int64
             * @description Records that it has
             */
            rows: number;
        };
        RefusedSuggestion: {
            /** Format: date-time */
            at: string;
            author: string;
            key: string;
            /** @description Of the workload */
            name: string;
            value: string;
            workload: string;
        };
        RegroupOut: {
            /** @description Statements that change */
            changed: string[];
            consequences?: components["schemas"]["Consequences"];
            /** @description Of a dry run; without one, errors are a problem */
            errors: components["schemas"]["TextError"][];
            /** @description Statements that go with the group */
            removed: string[];
            /** Format: int64 */
            revision: number;
            words: string;
        };
        RejectionOut: {
            /** Format: int64 */
            bytes: number;
            /** Format: int64 */
            carried: number;
            client: components["schemas"]["EndpointOut"];
            /** Format: int64 */
            connections: number;
            /** @description Only where it was asked for */
            detail?: components["schemas"]["ConversationDetail"];
            /** Format: int64 */
            dropped: number;
            first: string;
            last: string;
            /**
             * Format: int64
             * @description In the release, of the rule that rejects it
             */
            line: number;
            /** @description That would drop it */
            points: string[];
            /**
             * Format: int64
             * @description Line of the deciding rule; 0 if there is none
             */
            rule: number;
            /** @description Of that rule */
            sentence: string;
            server: components["schemas"]["EndpointOut"];
            service: string;
            /** @description A probe accepts this */
            settled: boolean;
            spark: number[];
            /**
             * Format: int64
             * @description Connections that may be the wrong way round
             */
            unsure: number;
            /** @enum {string} */
            verdict: "permit" | "reject" | "uncovered";
            /**
             * @description Its verdict in the revision that is compared with
             * @enum {string}
             */
            was?: "permit" | "reject" | "uncovered";
        };
        Release: {
            /** Format: date-time */
            at: string;
            author: string;
            /** Format: int64 */
            no: number;
            /**
             * Format: int64
             * @description Of the policy
             */
            revision: number;
            title: string;
        };
        "Release-policyRequest": {
            /** @description It takes the place of a release that is still being rolled out */
            instead?: boolean;
            /** @description The text */
            policy: string;
            title: string;
        };
        ReleaseDifference: {
            /** Format: int64 */
            changed: number;
            /** @description Conversations of the window, by their verdict in the older and in the newer */
            counts: {
                [key: string]: {
                    [key: string]: number;
                };
            };
            newer: components["schemas"]["Release"];
            older: components["schemas"]["Release"];
        };
        ReleaseOut: {
            /** Format: date-time */
            at: string;
            author: string;
            /**
             * Format: int64
             * @description Points that enforce it
             */
            enforced: number;
            /** Format: int64 */
            no: number;
            /**
             * Format: int64
             * @description Points that observe it
             */
            observed: number;
            /**
             * Format: int64
             * @description Of the policy
             */
            revision: number;
            /** @description The draft has the same text */
            same: boolean;
            title: string;
        };
        ReleaseRequest: {
            /** @description It takes the place of a release that is still being rolled out */
            instead?: boolean;
            /**
             * Format: int64
             * @description Of the draft that was looked at
             */
            revision: number;
            title: string;
        };
        "Remove-groupRequest": {
            name: string;
            /**
             * Format: int64
             * @description The revision in which the group was looked at
             */
            revision: number;
        };
        "Rename-companyRequest": {
            /** @description 1 to 60 characters */
            name: string;
        };
        "Rename-groupRequest": {
            name: string;
            /**
             * Format: int64
             * @description The revision in which the group was looked at
             */
            revision: number;
            to: string;
        };
        "Replace-policyRequest": {
            text: string;
            /** @description What was done, for the history */
            words?: string;
        };
        Report: {
            assertions: components["schemas"]["Assertion"][];
            /** @description The revision that the draft is compared with */
            before: components["schemas"]["Version"];
            /**
             * Format: int64
             * @description Conversations that change verdict
             */
            changed: number;
            draft: components["schemas"]["Version"];
            /** @description Conversations by verdict under the draft */
            now: components["schemas"]["Counts"];
            /** @description Those that lose or gain most first; quiet ones last */
            parts: components["schemas"]["Part"][];
            probes: components["schemas"]["Probe"][];
            /** @description Lines of the policy that were added and removed */
            statements: components["schemas"]["Statement"][];
            /** @description Under the revision before */
            then: components["schemas"]["Counts"];
            /** @description Of the conversations, RFC 3339 */
            window: string[];
        };
        Retention: {
            /** Format: int64 */
            conversationDays: number;
            /** Format: int64 */
            mostBytes: number;
            /** Format: int64 */
            recordDays: number;
        };
        RetentionOut: {
            /**
             * Format: int64
             * @description On disk now
             */
            bytes: number;
            /** Format: int64 */
            conversationDays: number;
            /** @description What is kept, oldest first */
            days: components["schemas"]["DayOut"][];
            /** Format: int64 */
            deletedBytes: number;
            /** @description What these bounds delete */
            deletes: components["schemas"]["DayOut"][];
            /** Format: int64 */
            mostBytes: number;
            /** Format: int64 */
            recordDays: number;
        };
        Revision: {
            /** Format: date-time */
            at: string;
            author: string;
            /** Format: int64 */
            no: number;
            words: string;
        };
        RevisionOut: {
            /** Format: date-time */
            at: string;
            author: string;
            /** Format: int64 */
            no: number;
            text: string;
            words: string;
        };
        RollOut: {
            before: components["schemas"]["Before"];
            coverage: components["schemas"]["Coverage"];
            /**
             * Format: int64
             * @description Of those rejected: dropped, as their point enforces
             */
            dropped: number;
            /** @description Somebody has paused the roll-out */
            hold?: components["schemas"]["Hold"];
            /**
             * Format: int64
             * @description The newest release that a point enforces; 0: none is
             */
            inForce: number;
            /** @description What the points counted in the last minute */
            lately: components["schemas"]["Lately"];
            /** @description By wave and name */
            points: components["schemas"]["PointState"][];
            /** @description Newest first */
            releases: components["schemas"]["ReleaseOut"][];
            waves: components["schemas"]["WaveState"][];
        };
        RowError: {
            /** @description Column, if one is to blame */
            column?: string;
            /**
             * Format: int64
             * @description Line of the file on which the row begins, from 1
             */
            line: number;
            reason: string;
        };
        RowOf: {
            far?: string;
            near: string;
            service: string;
        };
        Rule: {
            except?: number[];
            /** Format: int64 */
            line: number;
            log?: boolean;
            on: string[];
            peers?: number[];
            /** Format: int64 */
            until?: number;
            verdict: string;
            within?: number[];
            words: string;
        };
        RuleFigures: {
            at?: string;
            author?: string;
            layer: string;
            /** Format: int64 */
            line: number;
            note?: string;
            off: boolean;
            /** @description The rule as it stands in the text, without its note */
            sentence: string;
            use: components["schemas"]["UseOut"];
            /** @enum {string} */
            verdict: "permit" | "reject";
        };
        RuleOut: {
            /** @enum {string} */
            action: "permit" | "reject" | "apart";
            clauses: string;
            layer: string;
            /** @description Of apart: the groups */
            left: string[];
            off: boolean;
            on: string[];
            right: string[];
            /** @description Without the note */
            sentence: string;
        };
        RuleRef: {
            at?: string;
            author?: string;
            layer: string;
            /** Format: int64 */
            line: number;
            note?: string;
            /** @description The rule as it stands in the text, without its note */
            sentence: string;
            /** @enum {string} */
            verdict: "permit" | "reject";
        };
        Running: {
            /** @description Lines that it should not */
            extra: string[];
            /** @description Lines that it should have */
            missing: string[];
            same: boolean;
        };
        "Save-selectionRequest": {
            /** @description The query of the page's address */
            filter: string;
            list: string;
            name: string;
        };
        "Say-exporter-habitRequest": {
            /**
             * @description destination: type × 256 + code as the destination port; source: the type as the source port, the code as the destination port; nowhere: its ports say nothing; blank: as it shows itself
             * @enum {string}
             */
            icmp: "destination" | "source" | "nowhere" | "";
        };
        "Say-of-mattersRequest": {
            /**
             * Format: date-time
             * @description It opens again then
             */
            again?: string;
            /** @description With whom it is */
            holder?: string;
            ids: string[];
            /** @description Why it is settled */
            note?: string;
            /** @enum {string} */
            state: "new" | "seen" | "with" | "settled";
        };
        SeenOut: {
            /** Format: int64 */
            carried: number;
            /** Format: int64 */
            connections: number;
            /** Format: int64 */
            dropped: number;
            first: string;
            last: string;
            observer: string;
        };
        Selection: {
            /** Format: date-time */
            at: string;
            author: string;
            /** @description The query of the page's address */
            filter: string;
            list: string;
            name: string;
        };
        ServicePortOut: {
            /** @description What was stored before agrees with it */
            applied?: boolean;
            at?: string;
            author?: string;
            /** @enum {string} */
            kind: "everywhere" | "group" | "workload" | "address";
            /** @description Name of the group, id of the workload, or address or CIDR; blank: everywhere */
            place: string;
            /** @description Such as tcp/7411 */
            service: string;
        };
        Set: {
            addresses: string[];
            kept?: boolean;
            name: string;
            words: string;
        };
        "Set-not-applicableRequest": {
            /** @description Tag key */
            key: string;
            /** @description An expression without groups; blank: the tag applies to all workloads */
            where: string;
        };
        "Set-structural-keysRequest": {
            /** @description Tag keys; the first ones name sides that no group fits */
            keys: string[];
        };
        "Set-waveRequest": {
            /** @description Assertions must hold */
            asserts: boolean;
            /** @description It goes on as soon as all that is so */
            byItself?: boolean;
            /**
             * Format: int64
             * @description How long it observes at least
             */
            minutes?: number;
            /** @description Probes have to get the verdict that is expected */
            probes: boolean;
            /** @description What would be rejected has to be settled as right */
            settled: boolean;
            title?: string;
            /** @description All machines must stay administrable, so that a rollback is possible */
            wayBack: boolean;
        };
        SetMoves: {
            added?: string[];
            name: string;
            removed?: string[];
        };
        SetTagsInputBody: {
            /**
             * Format: int64
             * @description Of a filter: how many it selected when it was looked at; if they are others now, nothing is changed
             */
            count?: number;
            /** @description Instead of ids */
            filter?: components["schemas"]["WorkloadChoice"];
            key: string;
            /** @description Empty: the workload does not have the tag */
            value: string;
            /** @description Of one workload: the value that was shown. If it has another one by now, nothing is changed */
            was?: string;
            /** @description Ids */
            workloads?: string[];
        };
        Settings: {
            /** @description host:port of a syslog receiver or mail server, or the URL of a webhook */
            address: string;
            /** @description Certificates that the other side's is checked by, PEM; none: the system's */
            ca?: string;
            /** @description Of mail */
            from?: string;
            /** @enum {string} */
            kind: "syslog" | "webhook" | "mail";
            /** @description Of the user. It is never returned */
            password?: string;
            /** @description Of mail: send also where the server offers no encryption */
            plain?: boolean;
            /** @description Of a webhook: the key of HMAC-SHA-256. It is never returned */
            secret?: string;
            /** @description Of mail */
            to?: string[];
            /**
             * @description Of syslog
             * @enum {string}
             */
            transport?: "" | "udp" | "tcp" | "tls";
            /** @description Of mail, or of a webhook */
            user?: string;
        };
        "Settle-rowsRequest": {
            /** @enum {string} */
            as: "permit" | "reject" | "rightly";
            /** @description rightly: why */
            reason?: string;
            /**
             * Format: int64
             * @description The revision in which they were looked at
             */
            revision: number;
            rows: components["schemas"]["RowOf"][];
            /**
             * @description Of the rules; a row that has none gets the narrowest
             * @enum {string}
             */
            width?: "exact" | "groups" | "wider";
        };
        SettleOption: {
            /**
             * Format: int64
             * @description The line that it stands before; 0: last in the layer allowances
             */
            before: number;
            consequences: components["schemas"]["Consequences"];
            /** @description The rule that it is an exception to */
            instead?: components["schemas"]["RuleRef"];
            /** @description The groups that it needs, and the rule; a statement each */
            lines: string[];
            /** @enum {string} */
            width: "exact" | "groups" | "wider";
            /** @description Of whom it speaks */
            words: string;
        };
        SettleOut: {
            /**
             * Format: int64
             * @description That do not have the verdict yet
             */
            conversations: number;
            /** @description The narrowest first */
            options: components["schemas"]["SettleOption"][];
            /** @description The same selection as a question, for a probe that expects reject */
            probe: string;
            /** Format: int64 */
            revision: number;
        };
        SettleRequest: {
            /** Format: int64 */
            before: number;
            lines: string[];
            /**
             * Format: int64
             * @description The revision that the option was made on
             */
            revision: number;
        };
        SharedGroup: {
            /** Format: int64 */
            both: number;
            group: string;
        };
        Side: {
            /** @enum {string} */
            kind: "group" | "tags" | "workload" | "outside" | "many";
            /** @description A structural tag that is missing */
            lack?: string;
            text: string;
        };
        Source: {
            /**
             * Format: int64
             * @description Workloads that it lists
             */
            listed: number;
            /** @description What the headings of its files are */
            mapping?: {
                [key: string]: string;
            };
            name: string;
            /**
             * Format: int64
             * @description The lower one's values win
             */
            rank: number;
            /**
             * Format: int64
             * @description Tag values that it has
             */
            tags: number;
            /**
             * Format: date-time
             * @description When it was heard last
             */
            taken?: string;
            /**
             * Format: date-time
             * @description When it last gave its complete list
             */
            whole?: string;
        };
        SourceValue: {
            /** Format: date-time */
            at: string;
            author: string;
            key: string;
            source: string;
            value: string;
            workload: string;
        };
        Starter: {
            /** @description Why it should not be taken as it is */
            doubt?: string;
            /** @description Names it in a request */
            id: string;
            /** @enum {string} */
            kind: "environment" | "group" | "guardrail" | "assertion";
            /** @description Of a rule */
            layer?: string;
            /**
             * Format: int64
             * @description Of a group
             */
            members: number;
            /** @description Ids of the groups that it names */
            needs: string[];
            /** @description The statement */
            text: string;
            /** @description What it is for */
            words: string;
        };
        StarterList: {
            /** Format: int64 */
            revision: number;
            /** @description Environments first, then groups, guardrails and assertions */
            starters: components["schemas"]["Starter"][];
            /** Format: int64 */
            total: number;
        };
        Statement: {
            /** @enum {string} */
            change: "added" | "removed";
            text: string;
        };
        StatementOut: {
            at?: string;
            author?: string;
            findings?: components["schemas"]["FindingOut"][];
            /**
             * Format: int64
             * @description Conversations of the window that the rule decides
             */
            hits: number;
            /** @enum {string} */
            kind: "service" | "group" | "area" | "layer" | "rule" | "assertion" | "comment";
            /** @description When the newest of them was last seen */
            last?: string;
            /** Format: int64 */
            line: number;
            name?: string;
            note?: string;
            /**
             * Format: int64
             * @description Pairs of a client and a server of these
             */
            pairs: number;
            rule?: components["schemas"]["RuleOut"];
            spark?: number[];
            /** @description The whole line */
            text: string;
        };
        Status: {
            /** @description The latest order that the point took */
            at: components["schemas"]["Mark"];
            /**
             * Format: int64
             * @description Release that decides; 0: none
             */
            enforces: number;
            /**
             * Format: int64
             * @description Version of the estate that it has loaded
             */
            estate: number;
            /** @description What happened since it was heard of last */
            events?: components["schemas"]["Event"][];
            /** @description Of what it has loaded; blank: nothing */
            id: string;
            /** @description By the rules that decide; if none does, by those on trial */
            lately: components["schemas"]["Lately"];
            lines?: components["schemas"]["Line"][];
            /**
             * Format: int64
             * @description Release on trial; 0: none
             */
            observes: number;
            /**
             * Format: double
             * @description Seconds since the loaded plan was last read back; below 0: never
             */
            read: number;
            /** @description Names this run of the agent: two at once are two agents */
            run?: string;
            /** @enum {string} */
            state: "holds" | "refused" | "drifted" | "went back" | "ahead";
            /** @description Addresses of a host that its plan does not guard */
            unlisted?: string[];
            /** @description The connection of this report, as the server saw it */
            way?: components["schemas"]["Way"];
            /** @description What is not as it should be */
            words?: string;
        };
        StepOut: {
            because: components["schemas"]["Belongs"][];
            failed?: string;
            matches: boolean;
            rule: components["schemas"]["RuleRef"];
        };
        StreamOut: {
            client: string;
            /** Format: int64 */
            conversations: number;
            server: string;
            /** @enum {string} */
            verdict: "permit" | "reject" | "uncovered";
        };
        StreamStatus: {
            /** Format: int32 */
            domain: number;
            /**
             * @description Where it writes the types of ICMP messages for which its records have no field, as it has shown; absent: there were none
             * @enum {string}
             */
            icmp?: "unlearnt" | "destination" | "source" | "nowhere";
            /** Format: int64 */
            late: number;
            /** Format: int64 */
            messages: number;
            /**
             * Format: int64
             * @description By the sequence numbers
             */
            missed: number;
            /** @description Two exporters send in its name: their sequence numbers alternate, so missed records cannot be counted */
            mixed?: boolean;
            /**
             * Format: int64
             * @description Records without addresses
             */
            noFlow: number;
            /**
             * Format: int64
             * @description Records that speak of the exporter
             */
            options: number;
            /**
             * Format: int32
             * @description That it sends from
             */
            port: number;
            protocol: string;
            /** Format: int64 */
            records: number;
            /** Format: int64 */
            restarts: number;
            /** Format: int64 */
            sampling: number;
            /**
             * Format: double
             * @description Arrival less the exporter's clock, in seconds
             */
            skew: number;
            /** Format: int64 */
            templates: number;
            /** @enum {string} */
            transport: "udp" | "tcp";
            /** @description What the sequence numbers count */
            unit: string;
            /**
             * Format: int64
             * @description Sets that came before their template
             */
            untemplated: number;
        };
        Strip: {
            bins: components["schemas"]["BinOut"][];
            /** Format: int64 */
            conversations: number;
            /** @description Start of all conversations; empty if there are none */
            from: string;
            /**
             * Format: int64
             * @description Conversation-hours that are stored
             */
            records: number;
            to: string;
        };
        Suggestion: {
            /** @description What it shares with them, the most telling first */
            because: string[];
            key: string;
            /** @description Those that have it, the most alike first; at most 5 */
            like: components["schemas"]["Named"][];
            /**
             * Format: double
             * @description Of those that it resembles, 0 to 1
             */
            likeness: number;
            name: string;
            /**
             * Format: double
             * @description Share of tried for which the same judgement finds the tag that they have, 0 to 1
             */
            right: number;
            /**
             * Format: int64
             * @description Workloads that have the tag and that are judged at least as surely
             */
            tried: number;
            value: string;
            workload: string;
        };
        SuggestionList: {
            /** @description Whether they are current; if not, they are being computed, and an event follows */
            complete: boolean;
            /**
             * Format: double
             * @description How much of finding them is done, 0 to 1
             */
            done: number;
            /**
             * Format: int64
             * @description Structural tags that workloads lack
             */
            lacking: number;
            /** @description Those that somebody refused */
            refused: components["schemas"]["RefusedSuggestion"][];
            suggestions: components["schemas"]["Suggestion"][];
            /** Format: int64 */
            total: number;
        };
        Summary: {
            author: string;
            /** Format: int64 */
            conversations: number;
            /**
             * Format: double
             * @description Share of the conversations that some rule decides
             */
            decided: number;
            estate: string;
            /** @description A question about traffic of the window, as the ask bar takes it */
            example?: string;
            /** Format: int64 */
            groups: number;
            /** Format: int64 */
            lack: number;
            /** @description The structural tag that most workloads lack */
            lackKey?: string;
            /** @description The estate is the made-up company, which can be removed */
            madeUp?: boolean;
            /**
             * Format: int64
             * @description Of the newest derivation, those that are still to be judged
             */
            proposals: number;
            redo?: components["schemas"]["Change"];
            /** Format: int64 */
            revision: number;
            /** Format: int64 */
            rules: number;
            /** Format: int64 */
            uncovered: number;
            /**
             * Format: int64
             * @description Groups with undecided members
             */
            undecided: number;
            undo?: components["schemas"]["Change"];
            /** Format: int64 */
            workloads: number;
        };
        TagHint: {
            group: string;
            key: string;
            name: string;
            /** @description One of the values is enough; if not, other tags are missing too */
            settles: boolean;
            /** @description Values in use, most used first; if settles, only those with which a rule decides */
            values: string[];
            workload: string;
        };
        TagOf: {
            key: string;
            value: string;
            workload: string;
        };
        TagOut: {
            /** Format: date-time */
            at: string;
            by: string;
            byHand: boolean;
            key: string;
            source: string;
            value: string;
        };
        "Take-startersRequest": {
            ids: string[];
            /**
             * Format: int64
             * @description The revision in which they were looked at
             */
            revision: number;
        };
        Talk: {
            client: components["schemas"]["TalkEnd"];
            first: string;
            /**
             * Format: int64
             * @description Of the conversation, among those of the derivation
             */
            number: number;
            server: components["schemas"]["TalkEnd"];
            service: string;
            /** @description Why it is suspicious */
            signs?: string;
        };
        TalkEnd: {
            addr: string;
            name: string;
        };
        TerraceMap: {
            /** @description Traffic inside a column */
            channels: components["schemas"]["PassageOut"][];
            columns: components["schemas"]["PlaceOut"][];
            /** @description Traffic between columns, and from and to outside and nowhere */
            gates: components["schemas"]["PassageOut"][];
            /** @description Tags that can make columns and rows */
            keys: string[];
            plots: components["schemas"]["PlotOut"][];
            /** @description From those that mostly call to those that are mostly called */
            rows: components["schemas"]["PlaceOut"][];
            /**
             * Format: int64
             * @description Workloads without a column or a row
             */
            unplaced: number;
        };
        TextError: {
            /** Format: int64 */
            column: number;
            /** Format: int64 */
            line: number;
            message: string;
        };
        Token: {
            author: string;
            /** Format: int64 */
            id: number;
            /** Format: date-time */
            made: string;
            name: string;
            /** @description It may release policies, and feeds nothing */
            releases: boolean;
            /** Format: date-time */
            revoked?: string;
            /** @description That it feeds */
            source: string;
            /** Format: date-time */
            used?: string;
        };
        TokenOut: {
            author: string;
            /** Format: int64 */
            id: number;
            /** Format: date-time */
            made: string;
            name: string;
            /** @description It may release policies, and feeds nothing */
            releases: boolean;
            /** Format: date-time */
            revoked?: string;
            secret: string;
            /** @description That it feeds */
            source: string;
            /** Format: date-time */
            used?: string;
        };
        Trial: {
            id: string;
            /**
             * Format: double
             * @description Remaining when the instructions were sent
             */
            seconds: number;
        };
        Tried: {
            errors: components["schemas"]["TextError"][];
            /** @description Of those in the text, in its order */
            results: components["schemas"]["AssertOut"][];
        };
        Trouble: {
            /** @description Something is not stored, or is being lost */
            grave: boolean;
            /** @enum {string} */
            kind: "disk" | "database" | "collector" | "clock" | "policy" | "network";
            since?: string;
            /** @description What to do */
            todo?: string;
            /** @description What, where, and what is being lost */
            words: string;
        };
        "Try-assertionRequest": {
            /** @description Assertions, one a line */
            text: string;
        };
        Use: {
            /** @enum {string} */
            kind: "rule" | "group" | "area" | "assertion";
            /** Format: int64 */
            line: number;
            text: string;
        };
        UseOut: {
            /** Format: int64 */
            connections: number;
            /** Format: int64 */
            conversations: number;
            /** @description When the newest of them was last seen */
            last?: string;
            /**
             * Format: int64
             * @description Of a client and a server
             */
            pairs: number;
            /** @description Connections over the window */
            spark: number[];
        };
        VerdictChange: {
            /** @enum {string} */
            after: "permit" | "reject" | "uncovered";
            /** @enum {string} */
            before: "permit" | "reject" | "uncovered";
            /** Format: int64 */
            count: number;
            examples: string[];
            /** @description Lines of the rules that decide afterwards */
            rules: number[];
        };
        Version: {
            at: string;
            author: string;
            /** Format: int64 */
            no: number;
            words: string;
        };
        VersionTime: {
            /**
             * Format: date-time
             * @description When it was released
             */
            at: string;
            author: string;
            /**
             * Format: date-time
             * @description When a point concerned first loaded it, in the period
             */
            from: string;
            /** @description Whether the promise stands in it */
            promised: boolean;
            /** Format: int64 */
            release: number;
            /** Format: int64 */
            revision: number;
            /** @description Of its text */
            sha256: string;
            title: string;
            /** Format: date-time */
            until: string;
        };
        WatchBin: {
            at: string;
            /**
             * Format: int64
             * @description Dropped, though permitted
             */
            chokes: number;
            /**
             * Format: int64
             * @description Dropped, and not permitted by the release enforced then
             */
            held: number;
            /**
             * Format: int64
             * @description Carried, though rejected
             */
            leaks: number;
            /**
             * Format: int64
             * @description Carried, as a rule permits
             */
            permitted: number;
            /**
             * Format: int64
             * @description Cannot be judged, because a point changed its release or mode in the hour in which they were counted
             */
            unclear: number;
            /**
             * Format: int64
             * @description Carried, as no rule speaks of them
             */
            uncovered: number;
        };
        WatchOut: {
            /** @description Of equal length, the oldest first */
            bins: components["schemas"]["WatchBin"][];
            from: string;
            /**
             * Format: int64
             * @description The newest release that a point enforces; 0: none, and the draft judges
             */
            inForce: number;
            /** @description What was seen is still being gathered */
            looking: boolean;
            /** @description Those that wait for somebody first, then those of the time that are seen or settled; the newest first */
            matters: components["schemas"]["MatterOut"][];
            /**
             * Format: int64
             * @description How many are new, or with somebody
             */
            open: number;
            /** @description Of all of them */
            sum: components["schemas"]["WatchBin"];
            to: string;
            watched: components["schemas"]["WatchedGroup"];
        };
        WatchedGroup: {
            /** @description Somebody chose them; else those that assertions protect are watched */
            chosen: boolean;
            groups: string[];
        };
        WaveState: {
            /** @description Assertions must hold */
            asserts: boolean;
            /** @description It goes on as soon as all that is so */
            byItself: boolean;
            /** @description Before it may enforce; of a wave that observes */
            conditions: components["schemas"]["Condition"][];
            /**
             * Format: int64
             * @description How long it observes at least
             */
            minutes: number;
            /** Format: int64 */
            no: number;
            points: string[];
            /** @description Probes have to get the verdict that is expected */
            probes: boolean;
            /** @description What would be rejected has to be settled as right */
            settled: boolean;
            /**
             * Format: date-time
             * @description When the last of its points came to that
             */
            since?: string;
            /**
             * @description With the newest release
             * @enum {string}
             */
            stage: "not yet" | "observes" | "enforces";
            title: string;
            /** @description All machines must stay administrable, so that a rollback is possible */
            wayBack: boolean;
        };
        Way: {
            /** Format: ip */
            from: string;
            to: string;
        };
        WhatIf: {
            answers: components["schemas"]["AnswerOut"][];
            /** @description Lines that cannot be read; the others are answered */
            errors: components["schemas"]["TextError"][];
            /** Format: int64 */
            revision: number;
        };
        Why: {
            /** @description The same question to the revision that is compared with */
            before?: components["schemas"]["Why"];
            client: components["schemas"]["EndpointOut"];
            /** @description Memberships of the client that decided; without a rule, those of the closest rule */
            clientIs: components["schemas"]["Belongs"][];
            /** @description Without a rule: the one that agreed with most of the flow */
            closest?: components["schemas"]["StepOut"];
            /** @description Tags that are missing and would settle a membership */
            hints: components["schemas"]["TagHint"][];
            rule?: components["schemas"]["RuleRef"];
            /** Format: int64 */
            rules: number;
            /** @description What was seen of it in the window */
            seen?: components["schemas"]["SeenOut"];
            server: components["schemas"]["EndpointOut"];
            serverIs: components["schemas"]["Belongs"][];
            service: string;
            /** @description Every rule that was considered, in order */
            steps: components["schemas"]["StepOut"][];
            /** @enum {string} */
            verdict: "permit" | "reject" | "uncovered";
        };
        WordUse: {
            /** @description What it is read as; blank: nobody knows */
            as: string;
            /** @enum {string} */
            column: "outcome" | "proto";
            /**
             * Format: int64
             * @description Of the first rows, those that have it
             */
            rows: number;
            /** @description It was guessed, not chosen */
            usual: boolean;
            word: string;
        };
        WorkloadChoice: {
            group?: string;
            /** @enum {string} */
            guarded?: "both" | "server" | "client" | "none" | "exempt";
            q?: string;
            tag?: string[];
        };
        WorkloadList: {
            /**
             * Format: int64
             * @description Workloads there are
             */
            all: number;
            /** @description What of the expression can hardly be meant: a tag that nothing has */
            hint?: string;
            /** @description All tag keys, the structural ones first */
            keys: string[];
            /**
             * Format: int64
             * @description Workloads that the filter selects
             */
            total: number;
            workloads: components["schemas"]["WorkloadOut"][];
        };
        WorkloadOut: {
            id: string;
            kind: string;
            leases: components["schemas"]["LeaseOut"][];
            name: string;
            /** @description Tag keys that it lacks and that do not apply to it */
            notApplicable?: string[];
            os: string;
            /** @description Since when no source lists it */
            retired?: string;
            tags: components["schemas"]["TagOut"][];
        };
        WorkloadPage: {
            groups: components["schemas"]["GroupMembership"][];
            id: string;
            kind: string;
            leases: components["schemas"]["LeaseOut"][];
            name: string;
            /** @description Tag keys that it lacks and that do not apply to it */
            notApplicable?: string[];
            os: string;
            /** @description Since when no source lists it */
            retired?: string;
            tags: components["schemas"]["TagOut"][];
        };
        WorkloadRules: {
            /** @description Earlier values */
            former: components["schemas"]["FormerValue"][];
            /** @description In which it is the client */
            fromIt: components["schemas"]["CountsOut"];
            /** @description Rules that can match with the workload as server */
            in: components["schemas"]["EffectiveRule"][];
            /** @description With the workload as client */
            out: components["schemas"]["EffectiveRule"][];
            /** @description Its tag values from every source */
            said: components["schemas"]["SourceValue"][];
            /** @description Conversations of the window in which it is the server */
            toIt: components["schemas"]["CountsOut"];
        };
    };
    responses: never;
    parameters: never;
    requestBodies: never;
    headers: never;
    pathItems: never;
}
export type $defs = Record<string, never>;
export interface operations {
    ask: {
        parameters: {
            query: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                q: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Answer"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-assertions": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["AssertOut"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-assertions": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-assertion-fix": {
        parameters: {
            query: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Of the assertion */
                line: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["AssertFix"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "try-assertion": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Try-assertionRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Tried"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "check-window": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
                measure?: "conversations" | "pairs" | "bytes";
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["CheckOut"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-check-parts": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                against?: number;
                /** @description A tag, ~area or ~owner */
                by?: string;
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["PartOut"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-company": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Company"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "rename-company": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Rename-companyRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Company"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "load-made-up-company": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description Accepted */
            202: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Job"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "remove-made-up-company": {
        parameters: {
            query?: {
                /** @description Also delete what users have added to it */
                added?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-conversations": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
                /** @description Key of the row */
                near?: string;
                /** @description Key of the other side */
                far?: string;
                service?: string;
                offset?: number;
                limit?: number;
                /** @description With groups, tags, packets and exporters of each */
                detail?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ConversationPage"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-conversations": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
                /** @description Key of the row */
                near?: string;
                /** @description Key of the other side */
                far?: string;
                service?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-conversation-lines": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
                /** @description Key of the row */
                near?: string;
                /** @description Key of the other side */
                far?: string;
                service?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-conversation-hours": {
        parameters: {
            query: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Address */
                client: string;
                /** @description Address */
                server: string;
                service: string;
                /** @description When the conversation was first seen: distinguishes workloads that had the same address in turn */
                first: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["HourOut"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    derive: {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                balance?: number;
                /** @description Only proposals for traffic from or to members of this group */
                group?: string;
                /** @description The same for the group of an area */
                area?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description Accepted */
            202: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Job"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-disagreements": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["DisagreementList"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-disagreements": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "restore-estate": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/x-ndjson": string;
            };
        };
        responses: {
            /** @description Accepted */
            202: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Job"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-estate": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-evidence-made": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EvidenceKept"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "make-evidence": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["EvidenceIn"];
            };
        };
        responses: {
            /** @description Accepted */
            202: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Job"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-evidence-schedules": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EvidenceSchedule"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "add-evidence-schedule": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["EvidenceScheduleIn"];
            };
        };
        responses: {
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EvidenceScheduleMade"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "drop-evidence-schedule": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "compare-evidence": {
        parameters: {
            query: {
                /** @description Number of the one */
                before: number;
                /** @description Number of the other */
                after: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Comparison"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-evidence-promises": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EvidencePromises"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-evidence": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EvidenceOut"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "drop-evidence": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-evidence-input": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
                name: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "print-evidence": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "download-evidence": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-exemptions": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ExemptionOut"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "exempt-workload": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: string;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Exempt-workloadRequest"];
            };
        };
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "end-exemption": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-exporters": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ExportersOut"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "forget-exporter": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                addr: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "say-exporter-habit": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                addr: string;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Say-exporter-habitRequest"];
            };
        };
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-figures": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Figures"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-group-figures": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-rule-figures": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-findings": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["FindingList"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-findings": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-terrace-map": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["TerraceMap"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-strip": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
                bins?: number;
                measure?: "conversations" | "pairs" | "bytes";
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Strip"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-groups": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["GroupOut"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-groups": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-group-history": {
        parameters: {
            query: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                name: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["GroupHistory"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-members": {
        parameters: {
            query: {
                name: string;
                as?: "yes" | "undecided" | "no";
                /** @description Only those that words or an expression select */
                q?: string;
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["MemberPage"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-members": {
        parameters: {
            query: {
                name: string;
                as?: "yes" | "undecided" | "no";
                /** @description Only those that words or an expression select */
                q?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "preview-group": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Preview-groupRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["GroupPreview"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "remove-group": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Remove-groupRequest"];
            };
        };
        responses: {
            /** @description Nothing was stored: a dry run, or no change */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RegroupOut"];
                };
            };
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RegroupOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "rename-group": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Rename-groupRequest"];
            };
        };
        responses: {
            /** @description Nothing was stored: a dry run, or no change */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RegroupOut"];
                };
            };
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RegroupOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-group-use": {
        parameters: {
            query: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                name: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["GroupUse"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "import-flows": {
        parameters: {
            query?: {
                /** @description Name of the inventory source */
                source?: string;
                /** @description The format of the file, as a JSON object; missing members are as before, or guessed */
                form?: string;
                /** @description Of workloads: the list is complete; workloads that the source listed before and that are missing are retired */
                complete?: boolean;
                /** @description Of flows: each row is one direction, as an exporter sees it; the two are joined */
                directions?: boolean;
                /** @description Of a capture: count tunnels as well as the conversations inside them */
                carriers?: boolean;
                /** @description Of flows: of the file, for records that name no observer */
                name?: string;
                /** @description Of flows: kinds of rows that are taken although they can hardly be meant */
                accept?: ("port" | "time")[];
                /** @description Only return the consequences; store nothing */
                preview?: boolean;
                /** @description Required for a complete list that lacks more than a tenth of the workloads of its source: the number of missing workloads, as the preview reports it */
                confirm?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/octet-stream": string;
                "application/x-ndjson": string;
                "text/csv": string;
            };
        };
        responses: {
            /** @description A preview; nothing was stored */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ImportAnswer"];
                };
            };
            /** @description Accepted */
            202: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ImportAnswer"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "import-workloads": {
        parameters: {
            query?: {
                /** @description Name of the inventory source */
                source?: string;
                /** @description The format of the file, as a JSON object; missing members are as before, or guessed */
                form?: string;
                /** @description Of workloads: the list is complete; workloads that the source listed before and that are missing are retired */
                complete?: boolean;
                /** @description Of flows: each row is one direction, as an exporter sees it; the two are joined */
                directions?: boolean;
                /** @description Of a capture: count tunnels as well as the conversations inside them */
                carriers?: boolean;
                /** @description Of flows: of the file, for records that name no observer */
                name?: string;
                /** @description Of flows: kinds of rows that are taken although they can hardly be meant */
                accept?: ("port" | "time")[];
                /** @description Only return the consequences; store nothing */
                preview?: boolean;
                /** @description Required for a complete list that lacks more than a tenth of the workloads of its source: the number of missing workloads, as the preview reports it */
                confirm?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/octet-stream": string;
                "application/x-ndjson": string;
                "text/csv": string;
            };
        };
        responses: {
            /** @description A preview; nothing was stored */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ImportAnswer"];
                };
            };
            /** @description Accepted */
            202: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ImportAnswer"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "take-listing": {
        parameters: {
            query?: {
                /** @description This is all that the source lists: what it listed before and is missing is retired */
                complete?: boolean;
                /** @description Confirms a complete list that lacks more than a tenth of the workloads of its source: the number of missing workloads */
                confirm?: number;
            };
            header?: {
                "Content-Type"?: string;
            };
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": unknown;
                "application/x-ndjson": string;
                "text/csv": string;
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ListingOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-jobs": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Job"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-job": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Job"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "cancel-job": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Job"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-ledger-rows": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["LedgerPage"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-ledger": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-ledger-callers": {
        parameters: {
            query: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
                offset?: number;
                limit?: number;
                /** @description Key of the row */
                near: string;
                service: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["LedgerPage"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-misspellings": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "release-policy": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Release-policyRequest"];
            };
        };
        responses: {
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Release"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "follow-release": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                no: number;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Follow-releaseRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Followed"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "fetch-device-file": {
        parameters: {
            query?: {
                /** @description acl: RFC 8519; k8s: NetworkPolicy */
                format?: "nft" | "acl" | "k8s" | "json";
            };
            header?: {
                /** @description The ETag of its copy: the answer is 304 while that is current */
                "If-None-Match"?: string;
            };
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    "Cache-Control"?: string;
                    "Content-Type"?: string;
                    ETag?: string;
                    Warning?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": string;
                };
            };
            /** @description Not Modified */
            304: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Unauthorized */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "fetch-device-group": {
        parameters: {
            query?: never;
            header?: {
                /** @description The ETag of its copy: the answer is 304 while that is current */
                "If-None-Match"?: string;
            };
            path: {
                /** @description Of a group of the point's release */
                name: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    "Cache-Control"?: string;
                    "Content-Type"?: string;
                    ETag?: string;
                    Warning?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": string;
                };
            };
            /** @description Not Modified */
            304: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Unauthorized */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "say-held": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Status"];
            };
        };
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "say-seen": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/octet-stream": string;
            };
        };
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-told": {
        parameters: {
            query?: {
                /** @description The id of the loaded plan: the answer comes as soon as the id changes, or after 25 s */
                have?: string;
            };
            header?: {
                /** @description Names the run of the agent */
                "Orchard-Run"?: string;
            };
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Instructions"];
                };
            };
            /** @description Unauthorized */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "add-point": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Add-pointRequest"];
            };
        };
        responses: {
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["PointMade"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "preview-guards": {
        parameters: {
            query: {
                /** @description An expression */
                guards: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Guarded"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "drop-point": {
        parameters: {
            query?: {
                /** @description Also if it enforces a release, which it goes on doing */
                anyway?: boolean;
            };
            header?: never;
            path: {
                name: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "tell-point-again": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                name: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "let-point-follow": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                name: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-point-history": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path: {
                name: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["PointEvent"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-point-plan": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                name: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["PlanText"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "compare-running": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                name: string;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Compare-runningRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Running"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "rotate-point-token": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                name: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["PointMade"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-policy": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    ETag?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["PolicyOut"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-policy": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "edit-policy": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["EditIn"];
            };
        };
        responses: {
            /** @description Nothing was stored: a dry run, or no change */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "fix-finding": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Fix-findingRequest"];
            };
        };
        responses: {
            /** @description Nothing was stored: a dry run, or no change */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    redo: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Change"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-revisions": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Revision"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-revision": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                no: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    ETag?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RevisionOut"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-difference": {
        parameters: {
            query?: {
                /** @description Another revision; 0: the draft */
                against?: number;
            };
            header?: never;
            path: {
                no: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Difference"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "restore-revision": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path: {
                no: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description Nothing was stored: a dry run, or no change */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "replace-policy": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only check the text and return the consequences */
                dryRun?: boolean;
            };
            header?: {
                /** @description The ETag of the policy that the text was made from; a dry run needs none */
                "If-Match"?: string;
            };
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Replace-policyRequest"];
            };
        };
        responses: {
            /** @description Nothing was stored: a dry run, or no change */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    undo: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Change"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-probes": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProbeOut"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "keep-probes": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Keep-probesRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProbeOut"][];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-probe-results": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-probes": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "drop-probes": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Drop-probesRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ProbeOut"][];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-proposals": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Proposals"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "judge-proposals": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Judge-proposalsRequest"];
            };
        };
        responses: {
            /** @description Nothing was stored: a dry run, or no change */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-evidence": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                offset?: number;
                limit?: number;
                /** @description Which of its choices; without it, the proposal itself */
                choice?: number;
            };
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ConversationPage"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-records": {
        parameters: {
            query: {
                /** @description Address */
                client: string;
                /** @description Address */
                server: string;
                service: string;
                /** @description RFC 3339; without it, from the beginning */
                from?: string;
                /** @description RFC 3339; records that start at it are in */
                to?: string;
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RecordPage"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-refused-batches": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RefusedBatch"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "drop-refused-batch": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-refused-batch": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    release: {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["ReleaseRequest"];
            };
        };
        responses: {
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Release"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "preview-release": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Preview"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "compare-releases": {
        parameters: {
            query: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description The number of the other, earlier one */
                against: number;
            };
            header?: never;
            path: {
                no: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ReleaseDifference"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-report": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description The revision before; without it, the first */
                against?: number;
                /** @description What parts of the estate are: a tag, ~area or ~owner */
                by?: string;
                /** @description Only this part: area:NAME, owner:NAME or KEY:VALUE */
                for?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Report"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-report": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description The revision before; without it, the first */
                against?: number;
                /** @description What parts of the estate are: a tag, ~area or ~owner */
                by?: string;
                /** @description Only this part: area:NAME, owner:NAME or KEY:VALUE */
                for?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-retention": {
        parameters: {
            query?: {
                conversationDays?: number;
                recordDays?: number;
                mostBytes?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RetentionOut"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "set-retention": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Retention"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RetentionOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-roll-out": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RollOut"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "hold-roll-out": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Hold-roll-outRequest"];
            };
        };
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "order-points": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Order"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Ordered"][];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "set-wave": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                no: number;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Set-waveRequest"];
            };
        };
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-wave-access": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                offset?: number;
                limit?: number;
            };
            header?: never;
            path: {
                no: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["MachineAccess"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-wave-rejections": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                offset?: number;
                limit?: number;
            };
            header?: never;
            path: {
                no: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["RejectionOut"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-rules": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-selections": {
        parameters: {
            query?: {
                list?: string;
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Selection"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "save-selection": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Save-selectionRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Selection"][];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "drop-selection": {
        parameters: {
            query: {
                list: string;
                name: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Selection"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-service-ports": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["ServicePortOut"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "add-service-port": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["ServicePortOut"];
            };
        };
        responses: {
            /** @description Accepted */
            202: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Job"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "remove-service-port": {
        parameters: {
            query: {
                /** @description Such as tcp/7411 */
                service: string;
                kind: "everywhere" | "group" | "workload" | "address";
                /** @description As it was entered; blank: everywhere */
                place?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description Accepted */
            202: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Job"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-settle-choices": {
        parameters: {
            query: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
                /** @description Key of the row */
                near?: string;
                /** @description Key of the other side */
                far?: string;
                service?: string;
                /** @description The verdict that they are to get */
                as: "permit" | "reject";
                /** @description Address: with server and service, only this conversation */
                client?: string;
                server?: string;
                /** @description When it was first seen */
                first?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["SettleOut"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    settle: {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["SettleRequest"];
            };
        };
        responses: {
            /** @description Nothing was stored: a dry run, or no change */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "settle-rows": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description permit, reject, uncovered; none is all */
                verdict?: ("permit" | "reject" | "uncovered")[];
                /** @description Only leaks and chokes */
                odd?: boolean;
                /** @description Who reaches it, or what it reaches */
                turn?: "reached" | "reaches";
                q?: string;
                /** @description Only conversations that the rule on this line decides */
                rule?: number;
                /** @description Only conversations to members of this group, or from them */
                group?: string;
                /** @description Only conversations to the workload with this id, or from it */
                workload?: string;
                /** @description A revision of the policy to compare with */
                against?: number;
                /** @description Only conversations with these verdicts */
                was?: ("permit" | "reject" | "uncovered")[];
                /** @description An expression that the client agrees with */
                clients?: string;
                /** @description An expression that the server agrees with */
                servers?: string;
                /** @description Names of services of the policy, or specs such as tcp/443; separated by commas */
                services?: string;
                /** @description What the network did with it */
                outcome?: "" | "carried" | "dropped" | "unknown";
                /** @description At least so many */
                bytes?: number;
                /** @description Only conversations without earlier traffic */
                new?: boolean;
                /** @description Only conversations whose direction is uncertain */
                unsure?: boolean;
                /** @description A tag that the sides are called by, instead of their groups; ~area and ~owner are the areas of the policy and whose they are */
                by?: string;
                /** @description Only conversations with an end in this part of the estate: area:NAME, owner:NAME or KEY:VALUE, a tag */
                for?: string;
                /** @description Without rejected conversations that a probe accepts */
                asking?: boolean;
                /** @description Only conversations that the newest derivation set aside for this reason; all: for any reason */
                aside?: string;
                /** @description Only running conversations that the newest release rejects at the points of this wave */
                wave?: number;
                columns?: string;
                rows?: string;
                /** @description A row for each value; else the smaller ones are one row, ~others */
                allRows?: boolean;
                /** @description Ways over the map: column and row of the client, column and row of the server, separated by |; blank is any */
                path?: string[];
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Settle-rowsRequest"];
            };
        };
        responses: {
            /** @description Nothing was stored: a dry run, or no change */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-sources": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Source"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "rank-sources": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Rank-sourcesRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Source"][];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-starters": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["StarterList"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "take-starters": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Take-startersRequest"];
            };
        };
        responses: {
            /** @description Nothing was stored: a dry run, or no change */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["EditOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-suggestions": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["SuggestionList"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-suggestions": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "accept-suggestions": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Accept-suggestionsRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Consequences"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "refuse-suggestions": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Refuse-suggestionsRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["SuggestionList"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-summary": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Summary"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "set-tags": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["SetTagsInputBody"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Consequences"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-tokens": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Token"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "add-token": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Add-tokenRequest"];
            };
        };
        responses: {
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["TokenOut"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-token": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Token"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "revoke-token": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-troubles": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Trouble"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "fix-misspellings": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Only return the consequences; store nothing */
                dryRun?: boolean;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Fix-misspellingsRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Consequences"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-misspellings": {
        parameters: {
            query?: {
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Misspelling"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "set-not-applicable": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Set-not-applicableRequest"];
            };
        };
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "set-structural-keys": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Set-structural-keysRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": string[];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    watch: {
        parameters: {
            query?: {
                period?: "hour" | "day" | "week" | "quarter";
                /** @description Its end, RFC 3339; without it, now, or the last conversation if that is older than a day */
                to?: string;
                /** @description Only matters that were seen from then on, RFC 3339 */
                since?: string;
                /** @description Only those that were seen before then */
                until?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["WatchOut"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    count: {
        parameters: {
            query?: {
                /** @description The last ten minutes, hour or day */
                period?: "minutes" | "hour" | "day";
                by?: "pair" | "rule";
                offset?: number;
                limit?: number;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["CounterPage"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "keep-destination": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                name: string;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Settings"];
            };
        };
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "drop-destination": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                name: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "try-destination": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                name: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "choose-watched": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Choose-watchedRequest"];
            };
        };
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-matters": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "say-of-matters": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Say-of-mattersRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Changed"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-matter": {
        parameters: {
            query?: {
                /** @description One of its days, such as 2026-11-20; without it, its last */
                day?: string;
            };
            header?: never;
            path: {
                id: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["MatterPage"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-notices": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["NoticesOut"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "add-notice": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["NoticeIn"];
            };
        };
        responses: {
            /** @description Created */
            201: {
                headers: {
                    Location?: string;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["NoticeMade"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "change-notice": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["NoticeIn"];
            };
        };
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "drop-notice": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: number;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description No Content */
            204: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "answer-questions": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Answer-questionsRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["WhatIf"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "explain-verdict": {
        parameters: {
            query: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description Address */
                client: string;
                /** @description Address */
                server: string;
                service: string;
                /** @description A revision of the policy to ask too */
                against?: number;
                /** @description Instant at which the addresses are resolved, RFC 3339; by default now */
                at?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Why"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-workloads": {
        parameters: {
            query?: {
                /** @description Words in the id, the name, an address or a tag; or an expression */
                q?: string;
                /** @description key=value; several of one key are alternatives; value (missing) is those without, (not applicable) those without that it does not apply to */
                tag?: string[];
                /** @description Only members of this group */
                group?: string;
                /** @description Those that are retired, instead of those that are there */
                retired?: boolean;
                /** @description Only those that enforcement points guard where they are called and where they call, only the one, only the other, not at all, or not because somebody said so */
                guarded?: "both" | "server" | "client" | "none" | "exempt";
                offset?: number;
                limit?: number;
                /** @description name, address, or a tag's key; with - before it, downwards */
                sort?: string;
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["WorkloadList"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "export-workloads": {
        parameters: {
            query?: {
                /** @description Words in the id, the name, an address or a tag; or an expression */
                q?: string;
                /** @description key=value; several of one key are alternatives; value (missing) is those without, (not applicable) those without that it does not apply to */
                tag?: string[];
                /** @description Only members of this group */
                group?: string;
                /** @description Those that are retired, instead of those that are there */
                retired?: boolean;
                /** @description Only those that enforcement points guard where they are called and where they call, only the one, only the other, not at all, or not because somebody said so */
                guarded?: "both" | "server" | "client" | "none" | "exempt";
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content?: never;
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-facets": {
        parameters: {
            query?: {
                /** @description Words in the id, the name, an address or a tag; or an expression */
                q?: string;
                /** @description key=value; several of one key are alternatives; value (missing) is those without, (not applicable) those without that it does not apply to */
                tag?: string[];
                /** @description Only members of this group */
                group?: string;
                /** @description Those that are retired, instead of those that are there */
                retired?: boolean;
                /** @description Only those that enforcement points guard where they are called and where they call, only the one, only the other, not at all, or not because somebody said so */
                guarded?: "both" | "server" | "client" | "none" | "exempt";
            };
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["Facet"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "find-workloads": {
        parameters: {
            query?: never;
            header?: never;
            path?: never;
            cookie?: never;
        };
        requestBody: {
            content: {
                "application/json": components["schemas"]["Find-workloadsRequest"];
            };
        };
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["FoundList"];
                };
            };
            /** @description Bad Request */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-workload": {
        parameters: {
            query?: never;
            header?: never;
            path: {
                id: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["WorkloadPage"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "list-guards": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                offset?: number;
                limit?: number;
            };
            header?: never;
            path: {
                id: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    Link?: string;
                    "Total-Count"?: number;
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["PointState"][];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
    "read-workload-rules": {
        parameters: {
            query?: {
                /** @description Start of the window, RFC 3339; without it, the first conversation */
                from?: string;
                /** @description End of the window, RFC 3339; without it, the last conversation */
                to?: string;
                /** @description The rules of this release; 0: those of the draft */
                release?: number;
            };
            header?: never;
            path: {
                id: string;
            };
            cookie?: never;
        };
        requestBody?: never;
        responses: {
            /** @description OK */
            200: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/json": components["schemas"]["WorkloadRules"];
                };
            };
            /** @description Forbidden */
            default: {
                headers: {
                    [name: string]: unknown;
                };
                content: {
                    "application/problem+json": components["schemas"]["Problem"];
                };
            };
        };
    };
}

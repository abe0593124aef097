import { cleanup, configure } from "@testing-library/react";
import { afterEach } from "vitest";

// On a busy machine a page may take longer than the usual second to show what it has asked for.
configure({ asyncUtilTimeout: 15_000 });

// Test files share one document.
afterEach(cleanup);

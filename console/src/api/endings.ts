import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { api, data } from "./queries";

/** What ends by itself, and what will not work at a time; "" is now. */
export const useEndings = (at: string) =>
  useQuery({
    queryKey: ["endings", at],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.GET("/api/v1/endings", { params: { query: at ? { at } : {} } })),
  });

export const useCalendarAddress = () =>
  useMutation({ mutationFn: () => data(api.POST("/api/v1/endings/calendar", { body: {} })) });
